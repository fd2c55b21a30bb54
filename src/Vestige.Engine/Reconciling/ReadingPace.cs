namespace Vestige.Engine.Reconciling;

/// <summary>
/// Holds a comparison to a number of rows read per second, both sides together, and to a share of the time in which it reads. Not safe
/// for several threads.
/// </summary>
/// <param name="rowsPerSecond">The most rows a second; null for no limit.</param>
/// <param name="share">The share of the time, both sides counted, above 0 to 1; null for no limit.</param>
/// <param name="clock">Tells the time, and waits.</param>
internal sealed class ReadingPace(double? rowsPerSecond, double? share, TimeProvider clock)
{
    private const long RowsOfAPart = 50_000;

    /// <summary>Both sides are read at once, and may stand on one machine: the time of each counts.</summary>
    private const double Sides = 2;

    private readonly DateTimeOffset began = clock.GetUtcNow();
    private DateTimeOffset reads = clock.GetUtcNow();
    private long rows;

    /// <summary>
    /// About so many rows may be read in one go without running ahead for longer than a few seconds; null without a limit.
    /// </summary>
    public long? RowsInOneGo =>
        rowsPerSecond is null && share is null
            ? null
            : Math.Max(
                4096,
                Math.Min(share is null ? long.MaxValue : RowsOfAPart, rowsPerSecond is { } rate ? (long)(rate * 2) : long.MaxValue)
            );

    /// <summary>So many rows were read. Nothing waits.</summary>
    public void Count(long read) => rows += read;

    /// <summary>
    /// Waits as long as what was read is more than the time allowed, and as long as the share says for the time since the last rest.
    /// Whoever can holds no view meanwhile: a view that stands keeps its database from tidying up.
    /// </summary>
    public async Task RestAsync(CancellationToken cancellation)
    {
        var now = clock.GetUtcNow();
        var ahead = rowsPerSecond is { } rate ? began + TimeSpan.FromSeconds(rows / rate) - now : TimeSpan.Zero;
        var idle = share is { } part ? (now - reads) * ((Sides / part) - 1) : TimeSpan.Zero;
        var wait = ahead > idle ? ahead : idle;
        if (wait > TimeSpan.Zero)
        {
            await Task.Delay(wait, clock, cancellation);
        }

        reads = clock.GetUtcNow();
    }
}
