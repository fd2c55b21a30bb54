namespace Vestige.Engine.Measuring;

/// <summary>What a crossing has done since the process started.</summary>
/// <param name="Loaded">Rows written by initial loads.</param>
/// <param name="Inserts">Inserts applied.</param>
/// <param name="Updates">Updates applied.</param>
/// <param name="Deletes">Deletes applied.</param>
/// <param name="Others">Truncations and changes of form met.</param>
public readonly record struct RunCounts(long Loaded, long Inserts, long Updates, long Deletes, long Others)
{
    public static RunCounts operator -(RunCounts left, RunCounts right) => Subtract(left, right);

    public static RunCounts Subtract(RunCounts left, RunCounts right) =>
        new(
            left.Loaded - right.Loaded,
            left.Inserts - right.Inserts,
            left.Updates - right.Updates,
            left.Deletes - right.Deletes,
            left.Others - right.Others
        );
}
