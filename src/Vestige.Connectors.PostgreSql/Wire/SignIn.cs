using System.Buffers;
using System.Buffers.Binary;
using System.Security.Cryptography;
using System.Text;
using Vestige.Engine.Faults;

namespace Vestige.Connectors.PostgreSql.Wire;

/// <summary>
/// Says who we are and proves it, as the server asks: by password, MD5 or SCRAM (PostgreSQL manual, Message Flow, Start-up).
/// </summary>
internal sealed class SignIn(ReplicationLink link, PostgreSqlSettings settings)
{
    /// <summary>Returns when the server is ready for a command.</summary>
    public async Task RunAsync(bool replicates, CancellationToken cancellation)
    {
        await SendStartupAsync(replicates, cancellation);
        Scram? scram = null;
        while (true)
        {
            var message = await link.NextAsync(cancellation);
            switch (message.Kind)
            {
                case 'E':
                    throw link.FailureOf(message.Body.Span);
                case 'Z':
                    return;
                case 'R':
                    scram = await AnswerAsync(message.Body, scram, cancellation);
                    break;
            }
        }
    }

    private async Task<Scram?> AnswerAsync(ReadOnlyMemory<byte> body, Scram? scram, CancellationToken cancellation)
    {
        var kind = BinaryPrimitives.ReadInt32BigEndian(body.Span);
        var rest = body[4..];
        switch (kind)
        {
            case 0:
                return scram;
            case 3 when settings.Tls == TlsMode.Prefer && !link.Encrypted:
                throw new PortException(
                    $"{link.Tried}: the server asks for the password in clear over a connection that is not encrypted. It was not sent."
                )
                {
                    Remedy = "Turn TLS on at the server, or let it ask for scram-sha-256 in pg_hba.conf.",
                };
            case 3:
                await link.SendAsync('p', ReplicationLink.Zero(Password), cancellation);
                return scram;
            case 5:
                await link.SendAsync('p', ReplicationLink.Zero(Md5(rest.Span[..4])), cancellation);
                return scram;
            case 10:
                scram = new Scram(Password);
                var first = Encoding.UTF8.GetBytes(scram.First);
                var length = new byte[4];
                BinaryPrimitives.WriteInt32BigEndian(length, first.Length);
                await link.SendAsync('p', [.. ReplicationLink.Zero("SCRAM-SHA-256"), .. length, .. first], cancellation);
                return scram;
            case 11:
                await link.SendAsync('p', Encoding.UTF8.GetBytes(scram!.Final(Encoding.UTF8.GetString(rest.Span))), cancellation);
                return scram;
            case 12 when scram!.Proves(Encoding.UTF8.GetString(rest.Span)):
                return scram;
            case 12:
                throw new PortException($"{link.Tried}: the server did not prove that it knows the password.")
                {
                    Remedy = "Make sure that it is the server you mean.",
                };
            default:
                throw new PortException($"{link.Tried}: the server asks for a way of signing in that is not known here ({kind}).")
                {
                    Remedy = "Allow password, md5 or scram-sha-256 in the server's pg_hba.conf.",
                };
        }
    }

    private string Password =>
        settings.Password
        ?? throw new PortException($"{link.Tried}: the server asks for a password, and the connection has none.")
        {
            Remedy = "Give the connection a password.",
        };

#pragma warning disable CA5351 // The server's older way of signing in is defined with MD5 (PostgreSQL manual, Password Authentication).
    private string Md5(ReadOnlySpan<byte> salt)
    {
        var inner = Convert.ToHexStringLower(MD5.HashData(Encoding.UTF8.GetBytes(Password + settings.User)));
        return "md5" + Convert.ToHexStringLower(MD5.HashData([.. Encoding.UTF8.GetBytes(inner), .. salt]));
    }
#pragma warning restore CA5351

    private async Task SendStartupAsync(bool replicates, CancellationToken cancellation)
    {
        var body = new ArrayBufferWriter<byte>();
        body.Write<byte>([0, 3, 0, 0]);
        foreach (
            var (name, value) in new[]
            {
                ("user", settings.User),
                ("database", settings.Database),
                ("replication", replicates ? "database" : "false"),
                ("application_name", "vestige"),
                ("client_encoding", "UTF8"),
                ("options", PostgreSqlSettings.SessionOptions),
            }
        )
        {
            body.Write(ReplicationLink.Zero(name));
            body.Write(ReplicationLink.Zero(value));
        }

        body.Write<byte>([0]);
        var length = new byte[4];
        BinaryPrimitives.WriteInt32BigEndian(length, body.WrittenCount + 4);
        await link.WriteAsync([.. length, .. body.WrittenSpan], cancellation);
    }
}
