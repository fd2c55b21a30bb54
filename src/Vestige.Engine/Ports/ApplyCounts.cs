namespace Vestige.Engine.Ports;

/// <summary>What applying met that should not have been there.</summary>
/// <param name="AlreadyThere">Rows to insert that the target had; they were overwritten.</param>
/// <param name="Missing">Rows to update or delete that the target lacked; updated ones were inserted.</param>
public readonly record struct ApplyCounts(long AlreadyThere, long Missing)
{
    public long Total => AlreadyThere + Missing;

    public static ApplyCounts operator +(ApplyCounts left, ApplyCounts right) => Add(left, right);

    public static ApplyCounts Add(ApplyCounts left, ApplyCounts right) =>
        new(left.AlreadyThere + right.AlreadyThere, left.Missing + right.Missing);
}
