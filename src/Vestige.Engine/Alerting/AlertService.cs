using Microsoft.Extensions.Logging;
using Vestige.Core.Alerts;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Alerting;

/// <summary>
/// Watches what needs someone: raises alerts by the rules, tells them on their channels, and says when they are over. Looked at by
/// one timer; asked by anybody.
/// </summary>
public sealed class AlertService
{
    private readonly IAlertStore store;
    private readonly EventLog events;
    private readonly TimeProvider clock;
    private readonly ILogger logger;
    private readonly Lock gate = new();
    private readonly Dictionary<string, Watched> watched = [];
    private AlertSettings settings = AlertSettings.Default;
    private long lastNumber;

    internal AlertService(IAlertStore store, EventLog events, TimeProvider clock, ILogger logger)
    {
        this.store = store;
        this.events = events;
        this.clock = clock;
        this.logger = logger;
    }

    /// <summary>The settings in force.</summary>
    public AlertSettings Settings
    {
        get
        {
            lock (gate)
            {
                return settings;
            }
        }
    }

    /// <summary>
    /// What holds now: what nobody has seen first, of that what stops a crossing, and then the longest. What has just ended is in
    /// <see cref="Ending"/>.
    /// </summary>
    public IReadOnlyList<Alert> Standing
    {
        get
        {
            lock (gate)
            {
                return
                [
                    .. watched
                        .Values.Where(one => one.Alarm.GoneSince is null)
                        .Select(one => one.Alert)
                        .OfType<Alert>()
                        .OrderBy(alert => alert.Acknowledged)
                        .ThenBy(alert => alert.Need.Kind is NeedKind.Faulted or NeedKind.LogLoss ? 0 : 1)
                        .ThenBy(alert => alert.Since),
                ];
            }
        }
    }

    /// <summary>What has ended, but not yet for so long that it is told; where it comes again before, it is the same alert.</summary>
    public IReadOnlyList<Alert> Ending
    {
        get
        {
            lock (gate)
            {
                return
                [
                    .. watched
                        .Values.Where(one => one is { Alert: not null, Alarm.GoneSince: not null })
                        .Select(one => one.Alert! with { OverAt = one.Alarm.GoneSince })
                        .OrderByDescending(alert => alert.OverAt),
                ];
            }
        }
    }

    /// <summary>Goes on with the alerts that stood when the process ended.</summary>
    public async Task RecallAsync(CancellationToken cancellation)
    {
        var kept = await store.ReadSettingsAsync(cancellation);
        var (standing, last) = await store.ReadAsync(cancellation);
        lock (gate)
        {
            (settings, lastNumber) = (kept, last);
            foreach (var alert in standing)
            {
                watched[alert.Need.Id] = new Watched(new Alarm(alert.Since, null, alert.RaisedAt), alert, alert.Need, IsRecalled: true);
            }
        }
    }

    /// <summary>Other settings are in force from now on; they have been kept.</summary>
    public void Use(AlertSettings other)
    {
        ArgumentNullException.ThrowIfNull(other);
        lock (gate)
        {
            settings = other;
        }
    }

    /// <summary>Notes that somebody has seen an alert. Throws <see cref="RequestRefusedException"/> for one that does not stand.</summary>
    public async Task AcknowledgeAsync(long number, string note, string by, CancellationToken cancellation)
    {
        Alert seen;
        lock (gate)
        {
            var (id, one) = watched.FirstOrDefault(pair => pair.Value.Alert?.Number == number);
            if (one?.Alert is not { } alert)
            {
                throw new RequestRefusedException("That alert is over.") { Remedy = "Look at the current alerts." };
            }

            seen = alert with { AcknowledgedBy = by, Note = note.Trim(), AcknowledgedAt = clock.GetUtcNow() };
            watched[id] = one with { Alert = seen };
        }

        await store.WriteAsync(seen, [], cancellation);
        await events.OfCrossingAsync(
            seen.Need.Crossing,
            EventKind.Note,
            $"Seen: {seen.Need.What}{(note.Trim().Length > 0 ? $" \u201c{note.Trim()}\u201d" : "")}",
            by
        );
    }

    /// <summary>Compares what needs someone now with what did before.</summary>
    /// <param name="looked">
    /// Whether a crossing was looked at; false leaves what is watched of it as it is, null, for one that is gone, ends it.
    /// </param>
    /// <param name="needs">All that holds now.</param>
    /// <param name="cleared">
    /// Whether what was counted of a table before a time is done with, since it was loaded or proved equal after it; such counts begin
    /// at 0 with the process, so that they alone do not say that it is over.
    /// </param>
    /// <param name="cancellation">Gives up.</param>
    public async Task LookAsync(
        Func<string, bool?> looked,
        IReadOnlyList<Need> needs,
        Func<Need, DateTimeOffset, bool> cleared,
        CancellationToken cancellation
    )
    {
        var now = clock.GetUtcNow();
        var held = needs.GroupBy(need => need.Id).ToDictionary(same => same.Key, same => same.First());
        List<(Alert Alert, bool IsOver)> changed = [];
        lock (gate)
        {
            foreach (var id in watched.Keys.Union(held.Keys).ToList())
            {
                var before = watched.GetValueOrDefault(id) ?? new Watched(Alarm.Quiet, null, null);
                var need = held.GetValueOrDefault(id);
                if (
                    need is null
                    && before.Need is { } known
                    && (
                        looked(known.Crossing) == false
                        || (
                            before.IsRecalled
                            && looked(known.Crossing) == true
                            && known.Kind == NeedKind.Unexpected
                            && !cleared(known, before.Alert!.Since)
                        )
                    )
                )
                {
                    continue;
                }

                var after = Step(before, need, need is null && before.Need is { } last && looked(last.Crossing) is null, now);
                if (after.Alert is null && !after.Alarm.Raised && after.Alarm.HeldSince is null)
                {
                    watched.Remove(id);
                }
                else
                {
                    watched[id] = after;
                }

                if (after.Alert is null && before.Alert is { } ended)
                {
                    changed.Add((ended with { OverAt = before.Alarm.GoneSince ?? now }, IsOver: true));
                }
                else if (after.Alert is { } alert && (before.Alert is null || (before.Alert.Acknowledged && !alert.Acknowledged)))
                {
                    changed.Add((alert, IsOver: false));
                }
            }
        }

        foreach (var (alert, isOver) in changed)
        {
            await (isOver ? OverAsync(alert, cancellation) : RaisedAsync(alert, cancellation));
        }

        await TellHeldBackAsync(now, cancellation);
    }

    private Watched Step(Watched before, Need? held, bool gone, DateTimeOffset now)
    {
        var need = held ?? before.Need;
        if (need is null)
        {
            return new Watched(Alarm.Quiet, null, null);
        }

        var rule = settings.RuleFor(need.Kind, need.Crossing);
        var holds = held is not null && rule.IsMet(held.Time, before.Alarm.Raised);
        var overAfter = gone ? TimeSpan.Zero : TimeSpan.FromSeconds(rule.OverAfterSeconds);
        var alarm = before.Alarm.Step(holds, now, TimeSpan.FromSeconds(rule.ForSeconds), overAfter);
        var alert =
            !alarm.Raised ? null
            : before.Alert is { } standing ? (holds ? Grown(standing, held!) : standing)
            : new Alert(++lastNumber, need, alarm.HeldSince!.Value, now);
        return new Watched(alarm, alert, need);
    }

    /// <summary>Whoever has seen it has not seen a table that came to it since: it needs someone again.</summary>
    private static Alert Grown(Alert standing, Need need) =>
        need.Tables?.Except(standing.Need.Tables ?? []).Any() == true
            ? standing with
            {
                Need = need,
                AcknowledgedBy = null,
                Note = null,
                AcknowledgedAt = null,
            }
            : standing with
            {
                Need = need,
            };

    private async Task RaisedAsync(Alert alert, CancellationToken cancellation)
    {
        var rule = Settings.RuleFor(alert.Need.Kind, alert.Need.Crossing);
        var tell = IsReported(rule, alert.RaisedAt) ? rule.Channels ?? [] : [];
        await KeepAsync(alert with { Reported = tell }, tell, cancellation);
    }

    /// <summary>Those who were told that it was raised are told that it is over, quiet hours or not.</summary>
    private async Task OverAsync(Alert alert, CancellationToken cancellation)
    {
        await KeepAsync(alert, alert.ToldTo, cancellation);
    }

    /// <summary>What was raised in quiet hours and still stands at their end is told then.</summary>
    private async Task TellHeldBackAsync(DateTimeOffset now, CancellationToken cancellation)
    {
        foreach (var alert in Standing.Where(alert => alert.Reported is { Count: 0 }))
        {
            var rule = Settings.RuleFor(alert.Need.Kind, alert.Need.Crossing);
            if (rule.Channels is { Count: > 0 } channels && IsReported(rule, now) && !alert.Acknowledged)
            {
                await KeepAsync(alert with { Reported = channels }, channels, cancellation);
            }
        }
    }

    private bool IsReported(AlertRule rule, DateTimeOffset at) => rule.InQuietHours || Settings.Quiet?.Contains(at) != true;

    private async Task KeepAsync(Alert alert, IReadOnlyList<string> tell, CancellationToken cancellation)
    {
        lock (gate)
        {
            if (watched.TryGetValue(alert.Need.Id, out var one) && one.Alert?.Number == alert.Number && alert.OverAt is null)
            {
                watched[alert.Need.Id] = one with { Alert = one.Alert with { Reported = alert.Reported } };
            }
        }

        try
        {
            await store.WriteAsync(alert, [.. tell.Select(channel => new AlertMessage(channel, alert))], cancellation);
        }
        catch (PortException exception)
        {
            logger.LogWarning(exception, "An alert could not be kept: {What}", alert.Need.What);
        }
    }

    /// <param name="IsRecalled">Whether it stood when the process began, and has not been met in it yet.</param>
    private sealed record Watched(Alarm Alarm, Alert? Alert, Need? Need, bool IsRecalled = false);
}
