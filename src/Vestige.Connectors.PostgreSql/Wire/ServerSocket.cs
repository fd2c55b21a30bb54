using System.Net.Sockets;
using Vestige.Engine.Faults;

namespace Vestige.Connectors.PostgreSql.Wire;

/// <summary>A socket to a server, by TCP or, for a host that begins with a slash, by the server's local socket in that folder.</summary>
internal static class ServerSocket
{
    private const int ReceiveBuffer = 4 << 20;

    // From linux/tcp.h; the framework has no name for it.
    private const int TcpLevel = 6;
    private const int TcpUserTimeout = 18;

    /// <summary>Connects; throws <see cref="PortException"/>, transient, when nobody answers within 10 s.</summary>
    public static async Task<Socket> OpenAsync(PostgreSqlSettings settings, CancellationToken cancellation)
    {
        var unix = settings.Host.StartsWith('/');
        var made = unix
            ? new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified)
            : new Socket(SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
        made.ReceiveBufferSize = ReceiveBuffer;
        if (!unix)
        {
            GiveUpOnSilence(made);
        }

        try
        {
            using var patience = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
            patience.CancelAfter(TimeSpan.FromSeconds(10));
            if (unix)
            {
                await made.ConnectAsync(new UnixDomainSocketEndPoint($"{settings.Host}/.s.PGSQL.{settings.Port}"), patience.Token);
            }
            else
            {
                await made.ConnectAsync(settings.Host, settings.Port, patience.Token);
            }
        }
        catch (Exception exception)
            when (exception is SocketException or OperationCanceledException && !cancellation.IsCancellationRequested)
        {
            made.Dispose();
            throw new PortException(
                $"Connecting to {settings.Host} port {settings.Port}: "
                    + $"{(exception is SocketException ? exception.Message : "no answer in 10 s")}.",
                exception
            )
            {
                Transient = true,
                Remedy = "Check the server and the network. Vestige retries automatically.",
            };
        }

        return made;
    }

    /// <summary>
    /// A line that died without a word is found by the system within a minute: by probes while nothing is on its way, and by
    /// what was sent and never acknowledged.
    /// </summary>
    private static void GiveUpOnSilence(Socket made)
    {
        made.SetSocketOption(SocketOptionLevel.Socket, SocketOptionName.KeepAlive, true);
        made.SetSocketOption(SocketOptionLevel.Tcp, SocketOptionName.TcpKeepAliveTime, 20);
        made.SetSocketOption(SocketOptionLevel.Tcp, SocketOptionName.TcpKeepAliveInterval, 5);
        if (OperatingSystem.IsLinux())
        {
            made.SetRawSocketOption(TcpLevel, TcpUserTimeout, BitConverter.GetBytes(60_000));
        }
    }
}
