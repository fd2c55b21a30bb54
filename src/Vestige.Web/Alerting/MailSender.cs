using MailKit.Net.Smtp;
using MailKit.Security;
using MimeKit;
using Vestige.Core.Alerts;
using Vestige.Engine.Alerting;

namespace Vestige.Web.Alerting;

/// <summary>Sends an alert as a plain message by SMTP (RFC 5321). A repetition has the same Message-Id.</summary>
public sealed class MailSender(CallTargets targets) : IAlertSender
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(20);

    public string Kind => AlertChannel.Email;

    public async Task<string> SendAsync(AlertChannel channel, string? secret, Alert alert, string address, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(channel);
        ArgumentNullException.ThrowIfNull(alert);
        using var message = new MimeMessage
        {
            Subject = AlertText.Subject(alert),
            MessageId = $"alert-{alert.Number}-{(alert.OverAt is null ? "raised" : "over")}-{alert.RaisedAt.UtcTicks}@vestige.invalid",
            Body = new TextPart("plain") { Text = AlertText.Body(alert, address) },
        };
        message.From.Add(MailboxAddress.Parse(channel.From!));
        message.To.AddRange(channel.To!.Select(MailboxAddress.Parse));
        using var client = new SmtpClient { Timeout = (int)Patience.TotalMilliseconds };
        var socket = await targets.ConnectAsync(channel.Host!, channel.Port!.Value, toStandIn: false, cancellation);
        await client.ConnectAsync(
            socket,
            channel.Host!,
            channel.Port!.Value,
            channel.Tls
                ? channel.Port == 465
                    ? SecureSocketOptions.SslOnConnect
                    : SecureSocketOptions.StartTls
                : SecureSocketOptions.None,
            cancellation
        );
        if (channel.User is { Length: > 0 } user)
        {
            await client.AuthenticateAsync(user, secret ?? "", cancellation);
        }

        var answer = await client.SendAsync(message, cancellation);
        await client.DisconnectAsync(true, cancellation);
        return answer;
    }
}
