using System.Globalization;
using Vestige.Core.Crossings;
using Vestige.Core.Expressions;
using Vestige.Core.Schemas;
using Xunit;

namespace Vestige.Core.Tests;

/// <summary>What people type is read, or refused in words and at once, whatever it is.</summary>
public sealed class ReaderFuzzTests(ITestOutputHelper output)
{
    private static readonly TimeSpan AtOnce = TimeSpan.FromSeconds(5);
    private static readonly ExpressionColumn[] Columns =
    [
        Of("id", ExpressionType.Integer),
        Of("value", ExpressionType.Text),
        Of("at", ExpressionType.Timestamp),
        Of("price", ExpressionType.Decimal),
        Of("is open", ExpressionType.Boolean),
    ];
    private static readonly string[] Pieces =
    [
        "id",
        "value",
        "at",
        "price",
        "\"is open\"",
        "nothing",
        "(",
        ")",
        "((",
        "))",
        ",",
        "+",
        "-",
        "*",
        "/",
        "%",
        "=",
        "<>",
        "<",
        ">=",
        "||",
        "and",
        "or",
        "not",
        "is null",
        "is not null",
        "in (",
        "between",
        "like",
        "case when",
        "then",
        "else",
        "end",
        "cast(",
        " as integer)",
        "upper(",
        "lower(",
        "substring(",
        "round(",
        "coalesce(",
        "nullif(",
        "0",
        "1",
        "-1",
        "1e400",
        "0.1",
        "99999999999999999999999999999999",
        "'text'",
        "''",
        "'it''s'",
        "'",
        "\"",
        "date '2026-02-30'",
        "timestamp '2026-03-01 10:00'",
        "interval '1 day'",
        "null",
        "true",
        "--",
        "/*",
        "\0",
        "🐟",
        "ünïcödé",
        "\n",
        ";",
    ];

    [Fact]
    public void An_expression_is_read_or_refused_with_what_is_wrong()
    {
        var (read, refused) = (0, 0);
        Each(random =>
        {
            var text = Text(random, Pieces, " ");
            try
            {
                _ = random.Next(2) == 0 ? Expression.Parse(text, Columns) : Expression.ParseCondition(text, Columns);
                read++;
            }
            catch (ExpressionException exception)
            {
                Assert.False(string.IsNullOrWhiteSpace(exception.Message));
                refused++;
            }
        });
        Assert.True(read > 0 && refused > 0);
    }

    /// <summary>As a table of all answers gives it, which is slow and plain.</summary>
    [Fact]
    public void A_pattern_matches_what_its_stars_stand_for()
    {
        var matched = 0;
        Each(random =>
        {
            var pattern = Text(random, ["a", "b", ".", "*", "**", "ab", "🐟", " "], "");
            var text = Text(random, ["a", "b", ".", "ab", "aab", "🐟", " ", "*"], "");
            var matches = TablePattern.Matches(pattern, text);
            Assert.Equal(Slowly(pattern, text), matches);
            matched += matches ? 1 : 0;
        });
        Assert.True(matched > 0);
    }

    [Fact]
    public void A_name_of_a_table_is_read_or_refused()
    {
        Each(random =>
        {
            var text = Text(random, ["a", ".", "\"", "\"\"", " ", "\n", "🐟", "x.y", "*", "\0"], "");
            try
            {
                var name = TableName.Parse(text);
                Assert.Equal(name, TableName.Parse(name.ToText()));
            }
            catch (FormatException exception)
            {
                Assert.False(string.IsNullOrWhiteSpace(exception.Message));
            }
        });
    }

    private static ExpressionColumn Of(string name, ExpressionType type) => new(name, type.ToString(), new ColumnMeaning(type));

    private static bool Slowly(string pattern, string text)
    {
        var reached = new bool[pattern.Length + 1, text.Length + 1];
        reached[0, 0] = true;
        for (var i = 1; i <= pattern.Length; i++)
        {
            for (var j = 0; j <= text.Length; j++)
            {
                reached[i, j] =
                    pattern[i - 1] == '*'
                        ? reached[i - 1, j] || (j > 0 && reached[i, j - 1])
                        : j > 0 && reached[i - 1, j - 1] && pattern[i - 1] == text[j - 1];
            }
        }

        return reached[pattern.Length, text.Length];
    }

    private static string Text(Random random, string[] pieces, string between)
    {
        var count = random.Next(50) == 0 ? random.Next(3000) : random.Next(12);
        var piece = random.Next(40) == 0 ? pieces[random.Next(pieces.Length)] : null;
        return string.Join(between, Enumerable.Range(0, count).Select(_ => piece ?? pieces[random.Next(pieces.Length)]));
    }

    private void Each(Action<Random> once)
    {
        var seed = int.Parse(
            Environment.GetEnvironmentVariable("VESTIGE_SEED") ?? $"{Random.Shared.Next(100_000)}",
            CultureInfo.InvariantCulture
        );
        var texts = int.Parse(Environment.GetEnvironmentVariable("VESTIGE_REQUESTS") ?? "3000", CultureInfo.InvariantCulture);
        output.WriteLine($"seed {seed}");
        for (var i = 0; i < texts; i++)
        {
            var began = TimeProvider.System.GetTimestamp();
            once(new Random(seed + i));
            Assert.True(
                TimeProvider.System.GetElapsedTime(began) < AtOnce,
                $"seed {seed + i} took {TimeProvider.System.GetElapsedTime(began)}"
            );
        }
    }
}
