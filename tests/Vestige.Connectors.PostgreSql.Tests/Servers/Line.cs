using System.Net;
using System.Net.Sockets;

namespace Vestige.Connectors.PostgreSql.Tests.Servers;

/// <summary>A line to a server that can be cut, slowed and made to go silent: everything stays connected and nothing arrives.</summary>
public sealed class Line : IAsyncDisposable
{
    private readonly TcpListener listener = new(IPAddress.Loopback, 0);
    private readonly CancellationTokenSource ending = new();
    private readonly int server;
    private readonly Task accepting;
    private readonly List<Socket> open = [];
    private volatile TaskCompletionSource silence = Sounding();

    public Line(int server)
    {
        this.server = server;
        listener.Start();
        accepting = AcceptAsync();
    }

    public int Port => ((IPEndPoint)listener.LocalEndpoint).Port;

    /// <summary>How long each packet is held back, in milliseconds.</summary>
    public int Delay { get; set; }

    public void GoSilent() => silence = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);

    public void Sound() => silence.TrySetResult();

    /// <summary>Ends every connection at once, in the middle of whatever is on its way.</summary>
    public void Cut()
    {
        lock (open)
        {
            foreach (var socket in open)
            {
                socket.Close(0);
            }

            open.Clear();
        }
    }

    public async ValueTask DisposeAsync()
    {
        ending.Cancel();
        listener.Stop();
        Sound();
        Cut();
        await accepting;
        ending.Dispose();
    }

    private static TaskCompletionSource Sounding()
    {
        var source = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        source.SetResult();
        return source;
    }

    private async Task AcceptAsync()
    {
        try
        {
            while (true)
            {
                var near = await listener.AcceptSocketAsync(ending.Token);
                var far = new Socket(SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
                near.NoDelay = true;
                lock (open)
                {
                    open.AddRange([near, far]);
                }

                _ = ConnectAsync(near, far);
            }
        }
        catch (Exception exception) when (exception is OperationCanceledException or SocketException or ObjectDisposedException)
        {
            // The end.
        }
    }

    private async Task ConnectAsync(Socket near, Socket far)
    {
        try
        {
            await far.ConnectAsync(IPAddress.Loopback, server);
            await Task.WhenAll(PumpAsync(near, far), PumpAsync(far, near));
        }
        catch (Exception exception) when (exception is SocketException or ObjectDisposedException)
        {
            near.Close(0);
        }
    }

    private async Task PumpAsync(Socket from, Socket to)
    {
        var buffer = new byte[16 << 10];
        try
        {
            while (await from.ReceiveAsync(buffer) is var read and > 0)
            {
                await silence.Task;
                if (Delay > 0)
                {
                    await Task.Delay(Delay);
                }

                for (var sent = 0; sent < read;)
                {
                    sent += await to.SendAsync(buffer.AsMemory(sent, read - sent));
                }
            }
        }
        catch (Exception exception) when (exception is SocketException or ObjectDisposedException)
        {
            // Cut.
        }
        finally
        {
            from.Close(0);
            to.Close(0);
        }
    }
}
