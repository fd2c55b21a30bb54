using System.Globalization;
using Vestige.Engine.Supervision;

namespace Vestige.Web.Live;

/// <summary>
/// The stream of server-sent events that the pages listen to: a beat twice a second. It carries only the number of events
/// so far; each page fetches its own live parts.
/// </summary>
public static class LiveStream
{
    private static readonly TimeSpan Beat = TimeSpan.FromMilliseconds(500);

    public static async Task ServeAsync(HttpContext context, CrossingEngine engine, TimeProvider clock)
    {
        ArgumentNullException.ThrowIfNull(context);
        ArgumentNullException.ThrowIfNull(engine);
        context.Response.ContentType = "text/event-stream";
        context.Response.Headers.CacheControl = "no-store";
        using var timer = new PeriodicTimer(Beat, clock);
        try
        {
            while (await timer.WaitForNextTickAsync(context.RequestAborted))
            {
                await context.Response.WriteAsync(string.Create(CultureInfo.InvariantCulture, $"event: beat\ndata: {engine.Events.Count}\n\n"), context.RequestAborted);
                await context.Response.Body.FlushAsync(context.RequestAborted);
            }
        }
        catch (OperationCanceledException)
        {
            // The page was closed.
        }
    }
}
