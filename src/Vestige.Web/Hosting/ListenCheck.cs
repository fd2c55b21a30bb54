using System.Net;
using System.Net.Sockets;

namespace Vestige.Web.Hosting;

/// <summary>Asks for the port before anything is opened, so that a second instance says so at once and touches nothing.</summary>
internal static class ListenCheck
{
    /// <summary>Throws <see cref="InvalidOperationException"/> when the port cannot be had.</summary>
    public static void Check(int port)
    {
        if (port is < 1 or > 65535)
        {
            throw new InvalidOperationException($"{port} is not a port. Give --port a number from 1 to 65535.");
        }

        using var socket = new Socket(AddressFamily.InterNetwork, SocketType.Stream, ProtocolType.Tcp);
        try
        {
            // As the web server does: a port whose last connections are still closing may be taken.
            socket.SetSocketOption(SocketOptionLevel.Socket, SocketOptionName.ReuseAddress, true);
            socket.Bind(new IPEndPoint(IPAddress.Loopback, port));
            socket.Listen(1);
        }
        catch (SocketException exception)
        {
            throw new InvalidOperationException($"Port {port} cannot be used: {exception.Message}. Choose another with --port.", exception);
        }
    }
}
