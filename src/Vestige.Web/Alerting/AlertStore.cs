using System.Text.Json;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.EntityFrameworkCore;
using Vestige.Core.Alerts;
using Vestige.Engine.Alerting;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Storage;
using Vestige.Storage.Entities;
using Vestige.Web.Api;
using Vestige.Web.Hosting;

namespace Vestige.Web.Alerting;

/// <summary>
/// Alerts, their messages and the settings in the store of the data folder. Secrets of channels are encrypted and never read out.
/// </summary>
public sealed class AlertStore(StoreFactory factory, IDataProtectionProvider protection, TimeProvider clock) : IAlertStore
{
    private const string Name = "alerts";
    private readonly IDataProtector protector = protection.CreateProtector("vestige.alerts");

    public async Task<AlertSettings> ReadSettingsAsync(CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        var kept = await store.Settings.AsNoTracking().FirstOrDefaultAsync(setting => setting.Name == Name, cancellation);
        return kept is null
            ? AlertSettings.Default
            : WithLaterKind(JsonSerializer.Deserialize<AlertSettings>(kept.Value, DefinitionJson.Options)!);
    }

    /// <summary>A kind that came with a later version gets its rule where every other kind has one.</summary>
    private static AlertSettings WithLaterKind(AlertSettings kept) =>
        AlertSettings.Default.Rules.Where(rule => kept.Rules.All(one => one.Kind != rule.Kind)).ToList() is [var later]
            ? kept with
            {
                Rules = [.. kept.Rules, later],
            }
            : kept;

    /// <summary>
    /// Keeps settings, and secrets of some channels; of a channel that is named by none its secret stays, and goes with the channel.
    /// </summary>
    public Task WriteSettingsAsync(AlertSettings settings, IReadOnlyDictionary<string, string> secrets, CancellationToken cancellation) =>
        ChangeAsync(
            async store =>
            {
                var record = await store.Settings.FindAsync([Name], cancellation);
                if (record is null)
                {
                    store.Settings.Add(record = new SettingRecord { Name = Name, Value = "" });
                }

                var kept = SecretsOf(record);
                var before =
                    record.Value.Length == 0
                        ? AlertSettings.Default
                        : JsonSerializer.Deserialize<AlertSettings>(record.Value, DefinitionJson.Options)!;
                foreach (
                    var channel in settings.Channels.Where(channel => kept.ContainsKey(channel.Name) && !secrets.ContainsKey(channel.Name))
                )
                {
                    if (before.Channels.FirstOrDefault(one => one.Name == channel.Name) is { } old && GoesOf(old) != GoesOf(channel))
                    {
                        throw new RequestRefusedException(
                            $"The secret of {channel.Name} was given for another address, role or encryption."
                        )
                        {
                            Remedy = "Give the secret again.",
                        };
                    }
                }

                foreach (var (channel, secret) in secrets)
                {
                    kept[channel] = secret;
                }

                foreach (var gone in kept.Keys.Except(settings.Channels.Select(channel => channel.Name)).ToList())
                {
                    kept.Remove(gone);
                }

                record.Value = JsonSerializer.Serialize(settings, DefinitionJson.Options);
                record.Secret = protector.Protect(JsonSerializer.SerializeToUtf8Bytes(kept));
            },
            cancellation
        );

    /// <summary>To whom a channel's secret goes, and under what protection.</summary>
    private static (string Kind, string? Url, string? Host, int? Port, string? User, bool Tls) GoesOf(AlertChannel channel) =>
        (channel.Kind, channel.Url, channel.Host, channel.Port, channel.User, channel.Tls);

    /// <summary>The secret of a channel: of a webhook its signing key, of a mail server the password; null when it has none.</summary>
    public async Task<string?> SecretAsync(string channel, CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        var record = await store.Settings.AsNoTracking().FirstOrDefaultAsync(setting => setting.Name == Name, cancellation);
        return record is null ? null : SecretsOf(record).GetValueOrDefault(channel);
    }

    public async Task<(IReadOnlyList<Alert> Standing, long LastNumber)> ReadAsync(CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        var standing = await store
            .Alerts.AsNoTracking()
            .Where(alert => alert.OverTicks == null)
            .OrderBy(alert => alert.Number)
            .Select(alert => alert.Alert)
            .ToListAsync(cancellation);
        var last = await store.Alerts.MaxAsync(alert => (long?)alert.Number, cancellation) ?? 0;
        return ([.. standing.Select(Read)], last);
    }

    /// <summary>The latest alerts, standing or over.</summary>
    public async Task<IReadOnlyList<Alert>> LatestAsync(int most, CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        return
        [
            .. (
                await store
                    .Alerts.AsNoTracking()
                    .OrderByDescending(alert => alert.Number)
                    .Take(most)
                    .Select(alert => alert.Alert)
                    .ToListAsync(cancellation)
            ).Select(Read),
        ];
    }

    public Task WriteAsync(Alert alert, IReadOnlyList<AlertMessage> messages, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(alert);
        ArgumentNullException.ThrowIfNull(messages);
        return ChangeAsync(
            async store =>
            {
                var record = await store.Alerts.FindAsync([alert.Number], cancellation);
                if (record is null)
                {
                    store.Alerts.Add(
                        record = new AlertRecord
                        {
                            Number = alert.Number,
                            Crossing = alert.Need.Crossing,
                            Alert = "",
                        }
                    );
                }

                record.Alert = JsonSerializer.Serialize(alert);
                record.RaisedTicks = alert.RaisedAt.UtcTicks;
                record.OverTicks = alert.OverAt?.UtcTicks;
                foreach (var message in messages)
                {
                    Add(store, message.Channel, message.Alert);
                }
            },
            cancellation
        );
    }

    /// <summary>Puts a message that tells of nothing on a channel.</summary>
    public Task TestAsync(string channel, string by, CancellationToken cancellation) =>
        ChangeAsync(
            store =>
            {
                var now = clock.GetUtcNow();
                Add(
                    store,
                    channel,
                    new Alert(
                        0,
                        new Need(NeedKind.Waiting, "test", null, $"A test, asked by {by}.", "Nothing.", "Nothing needs to be done."),
                        now,
                        now
                    )
                );
                return Task.CompletedTask;
            },
            cancellation
        );

    /// <summary>
    /// Messages that are due, the oldest of each alert on each channel first; a later one waits until the earlier was sent or given up.
    /// </summary>
    public async Task<IReadOnlyList<AlertMessageRecord>> DueAsync(DateTimeOffset now, int most, CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        var waiting = await store
            .AlertMessages.AsNoTracking()
            .Where(message => message.DueTicks != null)
            .OrderBy(message => message.Id)
            .Take(1000)
            .ToListAsync(cancellation);
        return
        [
            .. waiting
                .GroupBy(message => (message.Channel, message.Number))
                .Select(same => same.First())
                .Where(message => message.DueTicks <= now.UtcTicks)
                .Take(most),
        ];
    }

    /// <summary>The latest messages, newest first.</summary>
    public async Task<IReadOnlyList<AlertMessageRecord>> MessagesAsync(int most, CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        return await store.AlertMessages.AsNoTracking().OrderByDescending(message => message.Id).Take(most).ToListAsync(cancellation);
    }

    /// <summary>Notes what came of a try.</summary>
    public Task TriedAsync(AlertMessageRecord tried, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(tried);
        return ChangeAsync(
            store =>
            {
                store.AlertMessages.Update(tried);
                return Task.CompletedTask;
            },
            cancellation
        );
    }

    /// <summary>Drops alerts that were over, and messages that were made, before a moment.</summary>
    public Task ForgetAsync(DateTimeOffset before, CancellationToken cancellation) =>
        ChangeAsync(
            async store =>
            {
                await store.Alerts.Where(alert => alert.OverTicks < before.UtcTicks).ExecuteDeleteAsync(cancellation);
                await store
                    .AlertMessages.Where(message => message.MadeTicks < before.UtcTicks && message.DueTicks == null)
                    .ExecuteDeleteAsync(cancellation);
            },
            cancellation
        );

    /// <summary>The alert that a message tells of.</summary>
    public static Alert AlertOf(AlertMessageRecord message)
    {
        ArgumentNullException.ThrowIfNull(message);
        return Read(message.Alert);
    }

    private static Alert Read(string json) => JsonSerializer.Deserialize<Alert>(json)!;

    private void Add(VestigeStore store, string channel, Alert alert)
    {
        var now = clock.GetUtcNow().UtcTicks;
        store.AlertMessages.Add(
            new AlertMessageRecord
            {
                Channel = channel,
                Number = alert.Number,
                Alert = JsonSerializer.Serialize(alert),
                MadeTicks = now,
                DueTicks = now,
            }
        );
    }

    private Dictionary<string, string> SecretsOf(SettingRecord record) =>
        record.Secret is null ? [] : JsonSerializer.Deserialize<Dictionary<string, string>>(protector.Unprotect(record.Secret))!;

    private Task ChangeAsync(Func<VestigeStore, Task> change, CancellationToken cancellation) =>
        factory.ChangeAsync("Alerts", change, cancellation);
}
