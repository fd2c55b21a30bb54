namespace Vestige.Core.Loading;

/// <summary>How many chunks a table is cut into.</summary>
public static class ChunkCount
{
    /// <summary>Rows a chunk should hold: large enough that its cost is the rows, small enough that a repeat is cheap.</summary>
    public const long TargetRows = 25_000;

    /// <summary>About equal chunks of at most <see cref="TargetRows"/>; at least one, even for an empty table.</summary>
    public static int For(long estimatedRows) => (int)Math.Max(1, (estimatedRows + TargetRows - 1) / TargetRows);
}
