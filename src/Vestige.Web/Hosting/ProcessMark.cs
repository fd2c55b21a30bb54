namespace Vestige.Web.Hosting;

/// <summary>
/// A file in the data folder that is there while a process runs on it, so that the next one knows whether that ended in order. Its time
/// of change says when the process was last active, within half a minute. A file that cannot be written is done without.
/// </summary>
public sealed class ProcessMark(VestigeSettings settings, TimeProvider clock)
{
    /// <summary>How often <see cref="Touch"/> is to be called.</summary>
    public static readonly TimeSpan Every = TimeSpan.FromSeconds(30);

    private readonly string path = Path.Combine(settings.DataFolder, "running");

    /// <summary>Begins; when the process before was last active, where it did not end in order; else null.</summary>
    public DateTimeOffset? Begin()
    {
        DateTimeOffset? last = File.Exists(path) ? new DateTimeOffset(File.GetLastWriteTimeUtc(path), TimeSpan.Zero) : null;
        Touch();
        return last;
    }

    /// <summary>Notes that the process is active.</summary>
    public void Touch() => Try(() => File.WriteAllText(path, clock.GetUtcNow().ToString("O")));

    /// <summary>Ends in order.</summary>
    public void End() => Try(() => File.Delete(path));

    private static void Try(Action write)
    {
        try
        {
            write();
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException)
        {
            // The mark is no reason not to run; without it a kill is not told.
        }
    }
}
