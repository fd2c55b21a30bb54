using System.Globalization;
using Vestige.Web.Definitions;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>A definition as YAML is read, or refused in words and at once, whatever it is.</summary>
public sealed class DefinitionYamlFuzzTests(ITestOutputHelper output)
{
    private static readonly TimeSpan AtOnce = TimeSpan.FromSeconds(5);
    private const string Valid =
        "name: copy\npurpose: copy\nsource: a\ntarget: b\ntables:\n  rules:\n    - take: shop.*\n    - leave: shop.tmp_*\n  future: "
        + "true\ntreatment:\n  - tables: shop.item\n    keep: id > 7\n";
    private static readonly string[] Pieces =
    [
        "name:",
        "copy",
        "\n",
        "  ",
        "- ",
        ": ",
        "{",
        "}",
        "[",
        "]",
        "&a ",
        "*a",
        "!!binary ",
        "!x ",
        "'",
        "\"",
        "|",
        ">",
        "#",
        "---",
        "...",
        "%YAML 1.1",
        "null",
        "~",
        "1e999",
        "\t",
        "\0",
        "🐟",
        "<<: *a",
        "? ",
        "tables:",
        "rules:",
        "take: x",
    ];

    [Fact]
    public void It_is_read_or_refused()
    {
        var seed = int.Parse(
            Environment.GetEnvironmentVariable("VESTIGE_SEED") ?? $"{Random.Shared.Next(100_000)}",
            CultureInfo.InvariantCulture
        );
        var texts = int.Parse(Environment.GetEnvironmentVariable("VESTIGE_REQUESTS") ?? "3000", CultureInfo.InvariantCulture);
        output.WriteLine($"seed {seed}");
        var (read, refused) = (0, 0);
        for (var i = 0; i < texts; i++)
        {
            var text = Text(new Random(seed + i));
            var began = TimeProvider.System.GetTimestamp();
            var found = DefinitionYaml.Read(text);
            Assert.True(
                TimeProvider.System.GetElapsedTime(began) < AtOnce,
                $"seed {seed + i} took {TimeProvider.System.GetElapsedTime(began)}"
            );
            Assert.True((found.Definition is null) == (found.Problems.Count > 0), $"seed {seed + i}");
            if (found.Definition is { } definition)
            {
                read++;
                Assert.Equal(
                    DefinitionYaml.Write(definition),
                    DefinitionYaml.Write(DefinitionYaml.Read(DefinitionYaml.Write(definition)).Definition!)
                );
            }
            else
            {
                refused++;
                Assert.All(found.Problems, problem => Assert.False(string.IsNullOrWhiteSpace(problem.Problem.Found)));
            }
        }

        Assert.True(read > 0 && refused > 0);
    }

    /// <summary>A valid one with some places changed, or pieces at random; now and then one piece over and over.</summary>
    private static string Text(Random random)
    {
        if (random.Next(2) == 0)
        {
            var changed = Valid;
            for (var i = random.Next(4); i > 0; i--)
            {
                var at = random.Next(changed.Length);
                changed =
                    random.Next(2) == 0
                        ? changed.Remove(at, Math.Min(random.Next(1, 6), changed.Length - at))
                        : changed.Insert(at, Pieces[random.Next(Pieces.Length)]);
            }

            return changed;
        }

        var piece = random.Next(10) == 0 ? Pieces[random.Next(Pieces.Length)] : null;
        return string.Concat(
            Enumerable.Range(0, random.Next(piece is null ? 60 : 20_000)).Select(_ => piece ?? Pieces[random.Next(Pieces.Length)])
        );
    }
}
