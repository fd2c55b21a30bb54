using System.Net.Sockets;
using MailKit;
using MailKit.Security;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Storage.Entities;

namespace Vestige.Web.Alerting;

/// <summary>
/// Sends messages that are due, tries again what fails, with growing pauses, for a day; then gives up and says so among the events.
/// </summary>
public sealed class AlertPost(
    AlertStore store,
    CrossingEngine engine,
    IEnumerable<IAlertSender> senders,
    Hosting.VestigeSettings settings,
    TimeProvider clock,
    ILogger<AlertPost> logger
) : BackgroundService
{
    private const int AtOnce = 20;
    private static readonly TimeSpan LookEvery = TimeSpan.FromSeconds(1);
    private static readonly TimeSpan LongestPause = TimeSpan.FromMinutes(10);
    private static readonly TimeSpan GiveUpAfter = TimeSpan.FromDays(1);

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                await Task.Delay(LookEvery, clock, stoppingToken);
                if (engine.Started)
                {
                    await SendDueAsync(stoppingToken);
                }
            }
            catch (OperationCanceledException) when (stoppingToken.IsCancellationRequested)
            {
                return;
            }
            catch (Exception exception) when (exception is PortException or Microsoft.Data.Sqlite.SqliteException)
            {
                logger.LogWarning(exception, "Messages of alerts could not be looked for");
            }
        }
    }

    private async Task SendDueAsync(CancellationToken cancellation)
    {
        var due = await store.DueAsync(clock.GetUtcNow(), AtOnce, cancellation);
        await Task.WhenAll(due.Select(message => SendAsync(message, cancellation)));
    }

    private async Task SendAsync(AlertMessageRecord message, CancellationToken cancellation)
    {
        var alert = AlertStore.AlertOf(message);
        var channel = engine.Alerts!.Settings.Channels.FirstOrDefault(one => one.Name == message.Channel);
        message.Attempts++;
        if (channel is null)
        {
            (message.DueTicks, message.Answer) = (null, "the channel is gone");
            await store.TriedAsync(message, cancellation);
            return;
        }

        try
        {
            var sender = senders.First(one => one.Kind == channel.Kind);
            message.Answer = await sender.SendAsync(
                channel,
                await store.SecretAsync(channel.Name, cancellation),
                alert,
                $"{settings.Address}/crossings/{alert.Need.Crossing}",
                cancellation
            );
            (message.SentTicks, message.DueTicks) = (clock.GetUtcNow().UtcTicks, null);
        }
        catch (Exception exception) when (IsOfTheLine(exception) && !cancellation.IsCancellationRequested)
        {
            await FailedAsync(message, channel.Name, exception);
        }

        await store.TriedAsync(message, cancellation);
    }

    private static bool IsOfTheLine(Exception exception) =>
        exception
            is RequestRefusedException
                or System.Net.Sockets.SocketException
                or HttpRequestException
                or OperationCanceledException
                or SocketException
                or IOException
                or ProtocolException
                or CommandException
                or AuthenticationException
                or SslHandshakeException
                or NotSupportedException
                or FormatException
                or TimeoutException
                or InvalidOperationException;

    private async Task FailedAsync(AlertMessageRecord message, string channel, Exception exception)
    {
        var now = clock.GetUtcNow();
        message.Answer = exception is OperationCanceledException ? "no answer in time" : exception.Message;
        logger.LogWarning("A message on {Channel} was not taken: {Answer}", channel, message.Answer);
        if (now.UtcTicks - message.MadeTicks > GiveUpAfter.Ticks)
        {
            message.DueTicks = null;
            await engine.Events.OfCrossingAsync(
                AlertStore.AlertOf(message).Need.Crossing,
                Engine.Events.EventKind.Warning,
                $"{channel} could not be notified of an alert for a day: {message.Answer}"
            );
            return;
        }

        var pause = TimeSpan.FromSeconds(
            Math.Min(LongestPause.TotalSeconds, Math.Pow(2, Math.Min(message.Attempts, 12))) * (0.5 + (Random.Shared.NextDouble() / 2))
        );
        message.DueTicks = (now + pause).UtcTicks;
    }
}
