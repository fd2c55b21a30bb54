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
            .Where(file => !file.Contains("/Migrations/", StringComparison.Ordinal))
            .SelectMany(file =>
                File.ReadLines(file)
                    .Select((line, i) => (line, i))
                    .Where(pair => pair.line.Length > LongestLine)
                    .Select(pair => $"{Path.GetRelativePath(Sources.Root, file)}:{pair.i + 1}")
            )
            .ToList();
        Assert.True(longer.Count == 0, string.Join(Environment.NewLine, longer));
    }
}
