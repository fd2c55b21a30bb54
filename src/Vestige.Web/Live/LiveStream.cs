using System.Globalization;
using Vestige.Engine.Commands;

namespace Vestige.Web.Live;

/// <summary>
/// The stream of server-sent events that the pages listen to: a beat twice a second. It carries only the number of events
/// so far; each page fetches its own live parts.
/// </summary>
public static class LiveStream
{
    /// <summary>The most streams of one address; the tabs of a browser share one.</summary>
    private const int MostStreams = 64;
    private static readonly System.Collections.Concurrent.ConcurrentDictionary<string, int> Open = new();
    private static readonly TimeSpan Beat = TimeSpan.FromMilliseconds(500);

    public static async Task ServeAsync(HttpContext context, CrossingEngine engine, TimeProvider clock)
    {
        ArgumentNullException.ThrowIfNull(context);
        ArgumentNullException.ThrowIfNull(engine);
        var client = context.Connection.RemoteIpAddress?.ToString() ?? "";
        if (Open.AddOrUpdate(client, 1, (_, streams) => streams + 1) > MostStreams)
        {
            Open.AddOrUpdate(client, 0, (_, streams) => streams - 1);
            await Api
                .Problems.Of(429, "too-many-streams", $"{MostStreams} streams are open already.", "Close some of them.")
                .ExecuteAsync(context);
            return;
        }

        try
        {
            await BeatAsync(context, engine, clock);
        }
        finally
        {
            Open.AddOrUpdate(client, 0, (_, streams) => streams - 1);
        }
    }

    private static async Task BeatAsync(HttpContext context, CrossingEngine engine, TimeProvider clock)
    {
        context.Response.ContentType = "text/event-stream";
        context.Response.Headers.CacheControl = "no-store";
        using var timer = new PeriodicTimer(Beat, clock);
        try
        {
            while (await timer.WaitForNextTickAsync(context.RequestAborted))
            {
                await context.Response.WriteAsync(
                    string.Create(CultureInfo.InvariantCulture, $"event: beat\ndata: {engine.Events.Count}\n\n"),
                    context.RequestAborted
                );
                await context.Response.Body.FlushAsync(context.RequestAborted);
            }
        }
        catch (OperationCanceledException)
        {
            // The page was closed.
        }
    }
}
