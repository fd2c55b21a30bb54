namespace Vestige.Engine.Spooling;

/// <summary>Sizes of a spool, in bytes.</summary>
/// <param name="FileBytes">A file that reaches this size is closed and the next one begun.</param>
/// <param name="BudgetBytes">At this size capture waits until crossings have moved on.</param>
/// <param name="RecordBytes">About how much one record holds.</param>
/// <param name="SpanBytes">How much is kept behind the slowest crossing.</param>
public sealed record SpoolOptions(
    long FileBytes = 64L << 20,
    long BudgetBytes = 4L << 30,
    int RecordBytes = 1 << 20,
    long SpanBytes = 128L << 20
)
{
    private const int FilesAtLeast = 16;

    /// <summary>Within a budget: files are small enough that what is no longer needed of it can be dropped.</summary>
    public static SpoolOptions Within(long budgetBytes)
    {
        var usual = new SpoolOptions();
        return usual with { BudgetBytes = budgetBytes, FileBytes = Math.Min(usual.FileBytes, budgetBytes / FilesAtLeast) };
    }
}
