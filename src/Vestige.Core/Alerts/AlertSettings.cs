using System.Text.Json.Serialization;
using Vestige.Core.Crossings;

namespace Vestige.Core.Alerts;

/// <summary>What is told, when, and to whom.</summary>
/// <param name="Rules">
/// In order; the last of a kind that matches a crossing decides. A kind without one is raised at once and told to nobody.
/// </param>
/// <param name="Channels">The ways.</param>
/// <param name="Quiet">When only what must be is told; null for never.</param>
public sealed record AlertSettings(
    IReadOnlyList<AlertRule> Rules,
    IReadOnlyList<AlertChannel> Channels,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] QuietHours? Quiet = null
)
{
    private const int LongestSeconds = 86_400;

    /// <summary>To begin with: nothing is told to anybody, and a lag of five minutes for five minutes is worth it.</summary>
    public static AlertSettings Default { get; } =
        new(
            [
                new AlertRule(NeedKind.Faulted, InQuietHours: true),
                new AlertRule(NeedKind.SourceWritesFail, OverAfterSeconds: 0, InQuietHours: true),
                new AlertRule(NeedKind.Waiting, ForSeconds: 0, OverAfterSeconds: 30),
                new AlertRule(NeedKind.NoHeartbeat, ForSeconds: 5, OverAfterSeconds: 30),
                new AlertRule(NeedKind.Lag, LimitSeconds: 300, ForSeconds: 300, OverAfterSeconds: 120),
                new AlertRule(NeedKind.LosingGround, ForSeconds: 30, OverAfterSeconds: 60),
                new AlertRule(NeedKind.LogLoss, LimitSeconds: AlertRule.LossAheadSeconds, OverAfterSeconds: 120, InQuietHours: true),
                new AlertRule(NeedKind.SpoolFull, ForSeconds: 30, OverAfterSeconds: 300),
                new AlertRule(NeedKind.Quarantine, OverAfterSeconds: 0),
                new AlertRule(NeedKind.Held, OverAfterSeconds: 0),
                new AlertRule(NeedKind.Unexpected, OverAfterSeconds: 0),
                new AlertRule(NeedKind.ReadinessLost, OverAfterSeconds: 0),
                new AlertRule(NeedKind.Differing, OverAfterSeconds: 0),
            ],
            []
        );

    /// <summary>The rule for a kind and a crossing.</summary>
    public AlertRule RuleFor(NeedKind kind, string crossing) =>
        Rules.LastOrDefault(rule => rule.Kind == kind && TablePattern.Matches(rule.Crossings, crossing)) ?? new AlertRule(kind);

    /// <summary>What is wrong with them; empty when nothing is.</summary>
    public IReadOnlyList<DefinitionProblem> Check()
    {
        var problems = new List<DefinitionProblem>();
        for (var i = 0; i < Channels.Count; i++)
        {
            problems.AddRange(ChannelProblems(Channels[i], $"channels[{i}]"));
        }

        if (Channels.GroupBy(channel => channel.Name).FirstOrDefault(same => same.Count() > 1) is { } twice)
        {
            problems.Add(new DefinitionProblem("channels", $"'{twice.Key}' is there twice", "Give each a name of its own."));
        }

        for (var i = 0; i < Rules.Count; i++)
        {
            problems.AddRange(RuleProblems(Rules[i], $"rules[{i}]"));
        }

        if (Quiet is { } quiet && !TimeZoneInfo.TryFindSystemTimeZoneById(quiet.Zone, out _))
        {
            problems.Add(
                new DefinitionProblem(
                    "quiet.zone",
                    $"'{quiet.Zone}' is not a known time zone",
                    "Use an IANA name such as Europe/Vienna, or UTC."
                )
            );
        }

        return problems;
    }

    private IEnumerable<DefinitionProblem> RuleProblems(AlertRule rule, string field)
    {
        if (rule.ForSeconds is not (>= 0 and <= LongestSeconds) || rule.OverAfterSeconds is not (>= 0 and <= LongestSeconds))
        {
            yield return new DefinitionProblem(field, "a time is not from 0 s to a day", "Give seconds.");
        }

        if (rule.Kind == NeedKind.Lag && rule.LimitSeconds is not > 0)
        {
            yield return new DefinitionProblem($"{field}.limitSeconds", "there is none", "Say how many seconds behind are too many.");
        }

        if (rule.Kind == NeedKind.LogLoss && rule.LimitSeconds is not (null or > 0))
        {
            yield return new DefinitionProblem(
                $"{field}.limitSeconds",
                "it is not more than 0",
                "Enter how many seconds ahead a loss is announced."
            );
        }

        foreach (var unknown in (rule.Channels ?? []).Where(name => Channels.All(channel => channel.Name != name)))
        {
            yield return new DefinitionProblem($"{field}.channels", $"there is no channel '{unknown}'", "Name one of the channels.");
        }
    }

    private static IEnumerable<DefinitionProblem> ChannelProblems(AlertChannel channel, string field)
    {
        if (DefinitionRules.NameProblem(channel.Name) is { } name)
        {
            yield return new DefinitionProblem($"{field}.name", name, DefinitionRules.NameRemedy);
        }

        if (channel.Kind is not (AlertChannel.Webhook or AlertChannel.Email))
        {
            yield return new DefinitionProblem($"{field}.kind", $"'{channel.Kind}'", "Use webhook or email.");
        }

        if (
            channel.Kind == AlertChannel.Webhook
            && !(Uri.TryCreate(channel.Url, UriKind.Absolute, out var url) && (url.Scheme is "http" or "https"))
        )
        {
            yield return new DefinitionProblem($"{field}.url", $"'{channel.Url}' is no http or https address", "Give the whole address.");
        }

        if (channel.Kind == AlertChannel.Email && (string.IsNullOrEmpty(channel.Host) || channel.Port is not (> 0 and <= 65535)))
        {
            yield return new DefinitionProblem(
                $"{field}.host",
                "host or port is missing",
                "Give the mail server and its port, usually 587 or 25."
            );
        }

        if (channel.Kind == AlertChannel.Email && !(IsAddress(channel.From) && channel.To is { Count: > 0 } && channel.To.All(IsAddress)))
        {
            yield return new DefinitionProblem(
                $"{field}.to",
                "an address is missing or none",
                "Give from, and at least one address in to."
            );
        }
    }

    private static bool IsAddress(string? text) =>
        text is not null
        && text.IndexOf('@', StringComparison.Ordinal) is > 0 and var at
        && at < text.Length - 1
        && !text.Any(char.IsWhiteSpace);
}
