using Xunit;

namespace Vestige.Architecture.Tests;

/// <summary>What holds of every source file.</summary>
public class SourceTests
{
    private const int LongestLine = 140;

    [Fact]
    public void No_line_is_longer_than_the_editor_is_told()
    {
        var config = File.ReadAllText(Path.Combine(Sources.Root, ".editorconfig"));
        Assert.Contains($"max_line_length = {LongestLine}", config, StringComparison.Ordinal);
        var files = new[] { "src", "tests", "bench" }.SelectMany(folder => Sources.In(folder, ".cs")).ToList();
        Assert.True(files.Count > 900);
        var longer = files
            .Where(file => !IsGenerated(file))
            .SelectMany(file =>
                File.ReadLines(file)
                    .Select((line, i) => (line, i))
                    .Where(pair => pair.line.Length > LongestLine)
                    .Select(pair => $"{Path.GetRelativePath(Sources.Root, file)}:{pair.i + 1}")
            )
            .ToList();
        Assert.True(longer.Count == 0, string.Join(Environment.NewLine, longer));
    }

    /// <summary>The namespaces of the base library first, each group in the order of its names.</summary>
    [Fact]
    public void Imports_are_in_their_order()
    {
        var files = new[] { "src", "tests", "bench" }.SelectMany(folder => Sources.In(folder, ".cs")).Where(file => !IsGenerated(file));
        var others = files.Where(file => !IsOrdered([.. Imports(file)])).Select(file => Path.GetRelativePath(Sources.Root, file)).ToList();
        Assert.True(others.Count == 0, string.Join(Environment.NewLine, others));
    }

    /// <summary>Where readers got lost before: what each of these does is said in short methods.</summary>
    [Theory]
    [InlineData("CrossingEngine")]
    [InlineData("CrossingOpener")]
    [InlineData("CrossingPlanner")]
    [InlineData("ComparedTable")]
    [InlineData("StatusReader")]
    public void The_bodies_of_its_methods_are_short(string type)
    {
        const int LongestBody = 40;
        var lines = File.ReadAllLines(Assert.Single(Sources.In("src", ".cs"), file => Path.GetFileNameWithoutExtension(file) == type));
        var begins = Enumerable.Range(0, lines.Length).Where(i => lines[i] == "    {").ToList();
        Assert.NotEmpty(begins);
        Assert.All(begins, begin => Assert.InRange(Array.IndexOf(lines, "    }", begin) - begin - 1, 0, LongestBody));
    }

    private static bool IsGenerated(string file) =>
        file.Contains("/Migrations/", StringComparison.Ordinal) || file.Contains("/CompiledModel/", StringComparison.Ordinal);

    private static IEnumerable<string> Imports(string file) =>
        File.ReadLines(file)
            .TakeWhile(line => !line.StartsWith("namespace ", StringComparison.Ordinal))
            .Where(line => line.StartsWith("using ", StringComparison.Ordinal) && line.EndsWith(';') && !line.Contains('='))
            .Where(line => !line.StartsWith("using static", StringComparison.Ordinal))
            .Select(line => line["using ".Length..].TrimEnd(';'));

    private static bool IsOrdered(IReadOnlyList<string> names) =>
        names.SequenceEqual(names.OrderBy(name => !IsOfBase(name)).ThenBy(Sortable, StringComparer.OrdinalIgnoreCase));

    private static bool IsOfBase(string name) => name == "System" || name.StartsWith("System.", StringComparison.Ordinal);

    /// <summary>A namespace comes before what lies in it.</summary>
    private static string Sortable(string name) => name.Replace('.', '\0');
}
