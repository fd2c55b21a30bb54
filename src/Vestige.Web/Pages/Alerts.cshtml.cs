using System.Globalization;
using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Core.Alerts;
using Vestige.Core.Text;
using Vestige.Engine.Alerting;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Storage.Entities;
using Vestige.Web.Alerting;
using Vestige.Web.Views;

namespace Vestige.Web.Pages;

/// <summary>What needs someone, who was told, and by which rules?</summary>
public class AlertsModel(CrossingEngine engine, AlertStore store, StandInPost standIn, TimeProvider clock) : PageModel
{
    private const int HistoryShown = 60;
    private const int MessagesShown = 30;

    public AlertSettings Settings { get; private set; } = AlertSettings.Default;

    public IReadOnlyList<Alert> Standing { get; private set; } = [];

    public IReadOnlyList<Alert> Over { get; private set; } = [];

    public IReadOnlyList<AlertMessageRecord> Messages { get; private set; } = [];

    public StandInPost StandIn => standIn;

    public DateTimeOffset Now => clock.GetUtcNow();

    public CrossingEngine Engine => engine;

    public async Task OnGetAsync(CancellationToken cancellation)
    {
        Settings = engine.Alerts!.Settings;
        Standing = engine.Alerts.Standing;
        Over =
        [
            .. engine.Alerts.Ending,
            .. (await store.LatestAsync(HistoryShown, cancellation)).Where(alert => alert.OverAt is not null),
        ];
        Messages = await store.MessagesAsync(MessagesShown, cancellation);
    }

    public Task<IActionResult> OnPostAcknowledgeAsync(long number, string? note, CancellationToken cancellation) =>
        DoAsync("Acknowledged.", () => engine.Alerts!.AcknowledgeAsync(number, note ?? "", Who.Of(HttpContext), cancellation));

    public Task<IActionResult> OnPostWebhookAsync(
        string name,
        string url,
        string? secret,
        string[] kinds,
        CancellationToken cancellation
    ) => AddAsync(new AlertChannel(name ?? "", AlertChannel.Webhook, Url: url), secret, kinds, cancellation);

    public Task<IActionResult> OnPostMailAsync(
        string name,
        string host,
        int? port,
        bool tls,
        string? user,
        string? secret,
        string from,
        string to,
        string[] kinds,
        CancellationToken cancellation
    ) =>
        AddAsync(
            new AlertChannel(
                name ?? "",
                AlertChannel.Email,
                Host: host,
                Port: port,
                Tls: tls,
                User: string.IsNullOrEmpty(user) ? null : user,
                From: from,
                To: [.. (to ?? "").Split([',', ' ', ';'], StringSplitOptions.RemoveEmptyEntries)]
            ),
            secret,
            kinds,
            cancellation
        );

    /// <summary>Channels to the stand-ins, told of everything: to see how it works.</summary>
    public Task<IActionResult> OnPostStandInsAsync(CancellationToken cancellation)
    {
        var settings = engine.Alerts!.Settings;
        List<AlertChannel> channels =
        [
            .. settings.Channels.Where(channel => channel.Name is not ("stand-in-webhook" or "stand-in-mail")),
            new AlertChannel("stand-in-webhook", AlertChannel.Webhook, Url: standIn.WebhookAddress),
        ];
        if (standIn.MailPort is { } port)
        {
            channels.Add(
                new AlertChannel(
                    "stand-in-mail",
                    AlertChannel.Email,
                    Host: "127.0.0.1",
                    Port: port,
                    Tls: false,
                    From: "vestige@county.invalid",
                    To: ["on-call@county.invalid"]
                )
            );
        }

        string[] told =
        [
            .. channels.Where(channel => channel.Name.StartsWith("stand-in-", StringComparison.Ordinal)).Select(channel => channel.Name),
        ];
        var rules = settings.Rules.Select(rule => rule with { Channels = [.. (rule.Channels ?? []).Union(told)] }).ToList();
        return KeepAsync(
            settings with
            {
                Channels = channels,
                Rules = rules,
            },
            new Dictionary<string, string> { ["stand-in-webhook"] = "a signing key" },
            "The stand-ins are notified of everything.",
            cancellation
        );
    }

    public Task<IActionResult> OnPostRemoveAsync(string name, CancellationToken cancellation)
    {
        var settings = engine.Alerts!.Settings;
        return KeepAsync(
            settings with
            {
                Channels = [.. settings.Channels.Where(channel => channel.Name != name)],
                Rules =
                [
                    .. settings.Rules.Select(rule => rule with { Channels = rule.Channels?.Where(channel => channel != name).ToList() }),
                ],
            },
            new Dictionary<string, string>(),
            $"{name} is removed.",
            cancellation
        );
    }

    public Task<IActionResult> OnPostTestAsync(string name, CancellationToken cancellation) =>
        DoAsync("A test is being sent.", () => store.TestAsync(name, Who.Of(HttpContext), cancellation));

    /// <summary>The stand-ins refuse what they are sent, or take it again.</summary>
    public IActionResult OnPostRefuse(bool refuses)
    {
        standIn.Refuses = refuses;
        return Redirect("/alerts");
    }

    /// <summary>The rules of the page: those for all crossings. Others, made by file, come after them.</summary>
    public Task<IActionResult> OnPostRulesAsync(string? quietFrom, string? quietTo, string? zone, CancellationToken cancellation)
    {
        var settings = engine.Alerts!.Settings;
        try
        {
            var rules = settings.Rules.Select((rule, i) => Request.Form.ContainsKey($"for-{i}") ? Read(rule, i) : rule).ToList();
            return KeepAsync(
                settings with
                {
                    Rules = rules,
                    Quiet = QuietOf(quietFrom, quietTo, zone),
                },
                new Dictionary<string, string>(),
                "The rules are saved.",
                cancellation
            );
        }
        catch (RequestRefusedException exception)
        {
            return DoAsync("", () => Task.FromException(exception));
        }
    }

    private static QuietHours? QuietOf(string? from, string? to, string? zone)
    {
        static TimeOnly TimeOf(string? text) =>
            TimeOnly.TryParse(text, CultureInfo.InvariantCulture, out var time)
                ? time
                : throw new RequestRefusedException($"Quiet hours: '{text}' is not a time of day.")
                {
                    Remedy = "Write both ends as 22:00, or leave both empty.",
                };
        if (string.IsNullOrWhiteSpace(from) && string.IsNullOrWhiteSpace(to))
        {
            return null;
        }

        return TimeOf(from) == TimeOf(to)
            ? null
            : new QuietHours(TimeOf(from), TimeOf(to), string.IsNullOrWhiteSpace(zone) ? "UTC" : zone.Trim());
    }

    private AlertRule Read(AlertRule rule, int i) =>
        rule with
        {
            LimitSeconds = Seconds($"limit-{i}") ?? rule.LimitSeconds,
            ForSeconds = Seconds($"for-{i}") ?? rule.ForSeconds,
            OverAfterSeconds = Seconds($"over-{i}") ?? rule.OverAfterSeconds,
            Channels = [.. Request.Form[$"channels-{i}"].OfType<string>()],
            InQuietHours = Request.Form.ContainsKey($"quiet-{i}"),
        };

    private double? Seconds(string field) =>
        Request.Form[field].ToString() is not { Length: > 0 } text ? null
        : Durations.TryParse(text, out var span) ? span.TotalSeconds
        : throw new RequestRefusedException($"'{text}' is not a duration.") { Remedy = "Write it as 90 s, 15 min, 6 h or 1 h 30 min." };

    /// <summary>Adds a channel, and it to the rules of the kinds ticked beside it.</summary>
    private Task<IActionResult> AddAsync(AlertChannel channel, string? secret, string[] kinds, CancellationToken cancellation)
    {
        var settings = engine.Alerts!.Settings;
        var secrets = string.IsNullOrEmpty(secret)
            ? new Dictionary<string, string>()
            : new Dictionary<string, string> { [channel.Name] = secret };
        return KeepAsync(
            settings with
            {
                Channels = [.. settings.Channels.Where(one => one.Name != channel.Name), channel],
                Rules =
                [
                    .. settings.Rules.Select(rule =>
                        kinds.Contains(AlertText.Word(rule.Kind))
                            ? rule with
                            {
                                Channels = [.. (rule.Channels ?? []).Union([channel.Name])],
                            }
                            : rule
                    ),
                ],
            },
            secrets,
            kinds.Length == 0 ? $"{channel.Name} is saved. No rule notifies it yet." : $"{channel.Name} is notified from now on.",
            cancellation
        );
    }

    private Task<IActionResult> KeepAsync(
        AlertSettings settings,
        Dictionary<string, string> secrets,
        string done,
        CancellationToken cancellation
    ) => DoAsync(done, async () =>
        {
            if (settings.Check() is [var problem, ..])
            {
                throw new RequestRefusedException($"{problem.Field}: {problem.Found}.") { Remedy = problem.Remedy };
            }

            await store.WriteSettingsAsync(settings, secrets, cancellation);
            engine.Alerts!.Use(settings);
        });

    private async Task<IActionResult> DoAsync(string done, Func<Task> what)
    {
        try
        {
            await what();
            TempData["Done"] = done;
        }
        catch (RequestRefusedException exception)
        {
            TempData["Refused"] = $"{exception.Message} {exception.Remedy}";
        }
        catch (PortException exception)
        {
            TempData["Refused"] = $"{exception.Message} {exception.Remedy}";
        }

        return Redirect("/alerts");
    }
}
