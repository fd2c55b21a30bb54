using System.Globalization;
using System.Net.Http.Headers;
using System.Security.Cryptography;
using System.Text;
using Vestige.Core.Alerts;
using Vestige.Engine.Alerting;

namespace Vestige.Web.Alerting;

/// <summary>
/// Posts an alert as JSON. With a secret the body is signed: <c>Vestige-Signature: sha256=</c> and the HMAC-SHA-256 of the body in
/// hexadecimal digits (RFC 2104). A repetition has the same <c>Vestige-Message</c>.
/// </summary>
public sealed class WebhookSender(HttpClient http, CallTargets targets, StandInPost standIn) : IAlertSender
{
    public const string SignatureHeader = "Vestige-Signature";
    public const string MessageHeader = "Vestige-Message";

    public string Kind => AlertChannel.Webhook;

    public async Task<string> SendAsync(AlertChannel channel, string? secret, Alert alert, string address, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(channel);
        ArgumentNullException.ThrowIfNull(alert);
        var body = Encoding.UTF8.GetBytes(AlertText.Document(alert, address).ToJsonString());
        using var request = new HttpRequestMessage(HttpMethod.Post, channel.Url) { Content = new ByteArrayContent(body) };
        request.Content.Headers.ContentType = new MediaTypeHeaderValue("application/json");
        request.Headers.Add(MessageHeader, $"{alert.Number}-{(alert.OverAt is null ? "raised" : "over")}");
        if (secret is not null)
        {
            request.Headers.Add(SignatureHeader, Sign(body, secret));
        }

        var toStandIn = request.RequestUri!.AbsoluteUri == standIn.WebhookAddress;

        // A connection that is open already goes to wherever the name led when it was made.
        await targets.CheckAsync(request.RequestUri.Host, request.RequestUri.Port, toStandIn, cancellation);
        request.Options.Set(CallTargets.ToStandIn, toStandIn);
        using var response = await http.SendAsync(request, cancellation);
        response.EnsureSuccessStatusCode();
        return string.Create(CultureInfo.InvariantCulture, $"{(int)response.StatusCode} {response.ReasonPhrase}");
    }

    /// <summary>The signature of a body.</summary>
    public static string Sign(byte[] body, string secret) =>
        "sha256=" + Convert.ToHexStringLower(HMACSHA256.HashData(Encoding.UTF8.GetBytes(secret), body));
}
