using System.Runtime.InteropServices;

namespace Vestige.Web.Hosting;

/// <summary>
/// Gives memory back to the machine that large rows took and that nobody uses any more. The collector does that only when it runs, and
/// a process that has become quiet does not make it run.
/// </summary>
public sealed partial class MemoryReturn(TimeProvider clock, ILogger<MemoryReturn> logger) : BackgroundService
{
    private const long WorthIt = 256L << 20;
    private const double Grown = 1.5;
    private static readonly TimeSpan Every = TimeSpan.FromSeconds(15);

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        var (collections, after) = (GC.CollectionCount(2), 0L);
        using var timer = new PeriodicTimer(Every, clock);
        while (await timer.WaitForNextTickAsync(stoppingToken))
        {
            var committed = GC.GetGCMemoryInfo(GCKind.Any).TotalCommittedBytes;
            var isQuiet = GC.CollectionCount(2) == collections;
            if (isQuiet && committed > WorthIt && committed > after * Grown)
            {
                GC.Collect(2, GCCollectionMode.Aggressive, blocking: true, compacting: true);
                TrimNative();
                after = GC.GetGCMemoryInfo(GCKind.FullBlocking).TotalCommittedBytes;
                logger.LogInformation("Gave {Bytes} bytes of memory back", committed - after);
            }

            collections = GC.CollectionCount(2);
        }
    }

    /// <summary>
    /// What SQLite has freed stays with the C library (glibc manual, malloc_trim); another library has no such call, and needs none.
    /// </summary>
    private static void TrimNative()
    {
        if (!OperatingSystem.IsLinux())
        {
            return;
        }

        try
        {
            _ = MallocTrim(0);
        }
        catch (EntryPointNotFoundException)
        {
            // Not glibc.
        }
    }

    [LibraryImport("libc", EntryPoint = "malloc_trim")]
    private static partial int MallocTrim(nuint pad);
}
