namespace Vestige.Architecture.Tests;

/// <summary>The sources that the tests were built from.</summary>
internal static class Sources
{
    /// <summary>The folder of the project.</summary>
    public static string Root { get; } = Find();

    /// <summary>The files below a folder of the project that have one of these endings, those aside that a build made.</summary>
    public static IEnumerable<string> In(string folder, params string[] endings) =>
        Directory
            .EnumerateFiles(Path.Combine(Root, folder), "*", SearchOption.AllDirectories)
            .Where(file => endings.Contains(Path.GetExtension(file)) && !IsMade(file));

    private static bool IsMade(string file) =>
        Path.GetRelativePath(Root, file).Split(Path.DirectorySeparatorChar).Any(part => part is "bin" or "obj" or "node_modules");

    private static string Find()
    {
        var folder = AppContext.BaseDirectory;
        while (!Directory.Exists(Path.Combine(folder, "src")))
        {
            folder = Path.GetDirectoryName(folder) ?? throw new InvalidOperationException("The sources are not above the tests.");
        }

        return folder;
    }
}
