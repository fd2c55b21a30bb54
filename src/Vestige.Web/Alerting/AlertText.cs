using System.Globalization;
using System.Text.Json.Nodes;
using Vestige.Core.Alerts;
using Vestige.Core.Text;
using Vestige.Engine.Alerting;

namespace Vestige.Web.Alerting;

/// <summary>An alert as it is told.</summary>
public static class AlertText
{
    /// <summary>The word for a kind, the same on pages, in messages and in the API.</summary>
    public static string Word(NeedKind kind) =>
        kind switch
        {
            NeedKind.Faulted => "faulted",
            NeedKind.Waiting => "waiting",
            NeedKind.NoHeartbeat => "no heartbeat",
            NeedKind.Lag => "lag",
            NeedKind.LosingGround => "losing ground",
            NeedKind.LogLoss => "log loss",
            NeedKind.SpoolFull => "spool nearly full",
            NeedKind.Quarantine => "quarantine",
            NeedKind.Held => "held",
            NeedKind.Differing => "rows that differ",
            NeedKind.SourceWritesFail => "source writes fail",
            NeedKind.Unexpected => "unexpected rows",
            _ => "readiness lost",
        };

    /// <summary>One line.</summary>
    public static string Subject(Alert alert)
    {
        ArgumentNullException.ThrowIfNull(alert);
        return $"{alert.Need.Crossing}: {Word(alert.Need.Kind)}{(alert.OverAt is null ? "" : ", over")}";
    }

    /// <summary>All of it, as plain text.</summary>
    public static string Body(Alert alert, string address)
    {
        ArgumentNullException.ThrowIfNull(alert);
        var over = alert.OverAt is { } at ? $"Over since {Time(at)}, after {Figures.Duration(at - alert.Since)}.\n\n" : "";
        return $"{over}{alert.Need.What}\n\nSince {Time(alert.Since)}.\nWhat it costs: {alert.Need.Costs}\nWhat to do: "
            + $"{alert.Need.Remedy ?? "nothing but to wait"}\n\n{address}\n";
    }

    /// <summary>All of it, as a document.</summary>
    public static JsonObject Document(Alert alert, string address)
    {
        ArgumentNullException.ThrowIfNull(alert);
        return new JsonObject
        {
            ["number"] = alert.Number,
            ["state"] = alert.OverAt is null ? "raised" : "over",
            ["kind"] = Word(alert.Need.Kind),
            ["crossing"] = alert.Need.Crossing,
            ["about"] = alert.Need.About,
            ["tables"] = new JsonArray([.. (alert.Need.Tables ?? []).Select(table => JsonValue.Create(table))]),
            ["what"] = alert.Need.What,
            ["costs"] = alert.Need.Costs,
            ["remedy"] = alert.Need.Remedy,
            ["since"] = Rfc3339(alert.Since),
            ["raisedAt"] = Rfc3339(alert.RaisedAt),
            ["overAt"] = alert.OverAt is { } over ? Rfc3339(over) : null,
            ["address"] = address,
        };
    }

    private static string Time(DateTimeOffset at) => at.UtcDateTime.ToString("yyyy-MM-dd HH:mm:ss 'UTC'", CultureInfo.InvariantCulture);

    private static string Rfc3339(DateTimeOffset at) => Api.StatusView.Rfc3339(at);
}
