using System.Buffers;
using System.Net;
using System.Net.Sockets;
using System.Text;
using MimeKit;
using SmtpServer;
using SmtpServer.Protocol;
using SmtpServer.Storage;
using Vestige.Web.Hosting;

namespace Vestige.Web.Alerting;

/// <summary>
/// Stand-ins that ship with the application for trying alerts: an address that takes webhooks and a mail server on loopback. What
/// they got is in memory only.
/// </summary>
public sealed class StandInPost(VestigeSettings settings, ILogger<StandInPost> logger) : BackgroundService
{
    public const string WebhookPath = "/stand-in/webhook";
    private const int Kept = 50;
    private const int LongestBody = 64 << 10;
    private readonly Lock gate = new();
    private readonly LinkedList<ReceivedPost> received = [];

    /// <summary>The port of the mail server; null while it does not listen.</summary>
    public int? MailPort { get; private set; }

    public string WebhookAddress => settings.Address + WebhookPath;

    /// <summary>Every call is refused while it is set, as by a broken receiver.</summary>
    public bool Refuses { get; set; }

    /// <summary>What was received, newest first.</summary>
    public IReadOnlyList<ReceivedPost> Received
    {
        get
        {
            lock (gate)
            {
                return [.. received];
            }
        }
    }

    /// <summary>Takes a webhook.</summary>
    public async Task<IResult> TakeAsync(HttpRequest request, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(request);
        if (Refuses)
        {
            return Results.StatusCode(StatusCodes.Status503ServiceUnavailable);
        }

        using var reader = new StreamReader(request.Body, Encoding.UTF8);
        var buffer = new char[LongestBody];
        var length = await reader.ReadBlockAsync(buffer, cancellation);
        Keep(
            new ReceivedPost(
                DateTimeOffset.UtcNow,
                "webhook",
                request.Headers[WebhookSender.MessageHeader].ToString(),
                new string(buffer, 0, length),
                request.Headers[WebhookSender.SignatureHeader].ToString()
            )
        );
        return Results.Ok();
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        await Task.Yield();
        try
        {
            // Any that is free: a fixed one would be in the way of another instance.
            var port = FreePort();
            var options = new SmtpServerOptionsBuilder()
                .ServerName("vestige.invalid")
                .MaxMessageSize(LongestBody, MaxMessageSizeHandling.Strict)
                .Endpoint(builder => builder.Endpoint(new IPEndPoint(IPAddress.Loopback, port)))
                .Build();
            var services = new SmtpServer.ComponentModel.ServiceProvider();
            services.Add(new Box(this));
            MailPort = port;
            logger.LogInformation("The mail stand-in listens at 127.0.0.1:{Port}", port);
            await new SmtpServer.SmtpServer(options, services).StartAsync(stoppingToken);
        }
        catch (Exception exception) when (exception is SocketException or OperationCanceledException)
        {
            MailPort = null;
        }
    }

    private static int FreePort()
    {
        using var probe = new TcpListener(IPAddress.Loopback, 0);
        probe.Start();
        return ((IPEndPoint)probe.LocalEndpoint).Port;
    }

    private void Keep(ReceivedPost post)
    {
        lock (gate)
        {
            received.AddFirst(post);
            if (received.Count > Kept)
            {
                received.RemoveLast();
            }
        }
    }

    private sealed class Box(StandInPost post) : MessageStore
    {
        public override async Task<SmtpResponse> SaveAsync(
            ISessionContext context,
            IMessageTransaction transaction,
            ReadOnlySequence<byte> buffer,
            CancellationToken cancellationToken
        )
        {
            if (post.Refuses)
            {
                return SmtpResponse.MailboxUnavailable;
            }

            using var stream = new MemoryStream(buffer.ToArray());
            using var message = await MimeMessage.LoadAsync(stream, cancellationToken);
            post.Keep(
                new ReceivedPost(
                    DateTimeOffset.UtcNow,
                    "email",
                    message.Subject ?? "",
                    message.TextBody ?? "",
                    string.Join(", ", message.To.Mailboxes.Select(mailbox => mailbox.Address))
                )
            );
            return SmtpResponse.Ok;
        }
    }
}
