namespace Vestige.Core.SchemaVersions;

/// <summary>The words by which files and interfaces name what a change does.</summary>
public static class SchemaChangeWords
{
    /// <summary>Such as <c>columnAdded</c>.</summary>
    public static string Word(this SchemaChangeKind kind)
    {
        var name = kind.ToString();
        return char.ToLowerInvariant(name[0]) + name[1..];
    }
}
