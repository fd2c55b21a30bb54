using Vestige.Core.Alerts;

namespace Vestige.Web.Api;

/// <summary>Settings of alerts, and secrets by channel: of a webhook its signing key, of a mail server the password.</summary>
public sealed record AlertSettingsBody(
    IReadOnlyList<AlertRule> Rules,
    IReadOnlyList<AlertChannel> Channels,
    QuietHours? Quiet = null,
    IReadOnlyDictionary<string, string>? Secrets = null
);
