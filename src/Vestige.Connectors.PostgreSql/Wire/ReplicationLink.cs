using System.Buffers.Binary;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Authentication;
using System.Text;
using Vestige.Core.Positions;
using Vestige.Engine.Faults;

namespace Vestige.Connectors.PostgreSql.Wire;

/// <summary>
/// A connection of our own in replication mode (PostgreSQL manual, Frontend/Backend Protocol, Streaming Replication
/// Protocol). The server sends each change in a message and often in a packet of its own; a reader that wakes on each costs
/// both sides, so under load this one lets data gather before it reads. One caller at a time, except for
/// <see cref="SendStatusAsync"/>.
/// </summary>
internal sealed class ReplicationLink : IAsyncDisposable
{
    private const int BufferBytes = 1 << 20;
    private const int GatherBytes = 64 << 10;
    private const int BusyBytes = 8 << 10;

    /// <summary>Of a message that is too large, this much of the body is given: enough to see what it is about.</summary>
    private const int BeginningBytes = 64;
    private static readonly DateTimeOffset Epoch = new(2000, 1, 1, 0, 0, 0, TimeSpan.Zero);
    private readonly Socket socket;
    private readonly SemaphoreSlim sending = new(1);
    private readonly byte[] status = new byte[39];
    private Stream stream;
    private byte[] buffer = new byte[BufferBytes];
    private int start;
    private int end;
    private int lastRead;
    private int toPassOver;
    private Task<int>? pending;

    private ReplicationLink(Socket socket, string tried)
    {
        this.socket = socket;
        Tried = tried;
        stream = new NetworkStream(socket, ownsSocket: true);
    }

    /// <summary>How messages begin that tell of a failure.</summary>
    internal string Tried { get; }

    /// <summary>
    /// The largest message that is taken as a whole, in bytes; of a larger one only the beginning is given, and the rest takes no memory.
    /// </summary>
    public int MostBytes { get; set; } = int.MaxValue;

    /// <summary>Whether the line is encrypted.</summary>
    public bool Encrypted => stream is SslStream;

    /// <summary>Connects, encrypts as the settings say, and signs in.</summary>
    public static Task<ReplicationLink> OpenAsync(PostgreSqlSettings settings, CancellationToken cancellation) =>
        OpenAsync(settings, replicates: true, cancellation);

    /// <summary>The same for a connection that runs plain statements: for copying rows out, where the driver would wake on each.</summary>
    public static async Task<ReplicationLink> OpenAsync(PostgreSqlSettings settings, bool replicates, CancellationToken cancellation)
    {
        var link = await ConnectAsync(settings, cancellation);
        try
        {
            await new SignIn(link, settings).RunAsync(replicates, cancellation);
            return link;
        }
        catch
        {
            await link.DisposeAsync();
            throw;
        }
    }

    /// <summary>Connects and encrypts as the settings say, without signing in.</summary>
    public static async Task<ReplicationLink> ConnectAsync(PostgreSqlSettings settings, CancellationToken cancellation)
    {
        var made = await ServerSocket.OpenAsync(settings, cancellation);
        var link = new ReplicationLink(made, $"Replication connection to {settings.Host} port {settings.Port}");
        try
        {
            if (settings.Tls != TlsMode.Off && made.AddressFamily != AddressFamily.Unix)
            {
                await link.EncryptAsync(settings, cancellation);
            }

            return link;
        }
        catch
        {
            await link.DisposeAsync();
            throw;
        }
    }

    /// <summary>Runs one replication command and returns its rows as texts.</summary>
    public async Task<IReadOnlyList<string?[]>> QueryAsync(string command, CancellationToken cancellation)
    {
        await SendAsync('Q', Zero(command), cancellation);
        var rows = new List<string?[]>();
        PortException? failure = null;
        while (true)
        {
            var message = await NextAsync(cancellation);
            switch (message.Kind)
            {
                case 'D':
                    rows.Add(RowOf(message.Body.Span));
                    break;
                case 'E':
                    failure = FailureOf(message.Body.Span);
                    break;
                case 'Z':
                    return failure is null ? rows : throw failure;
            }
        }
    }

    /// <summary>Runs a command that begins to stream.</summary>
    public async Task StartAsync(string command, CancellationToken cancellation)
    {
        await SendAsync('Q', Zero(command), cancellation);
        while (true)
        {
            var message = await NextAsync(cancellation);
            switch (message.Kind)
            {
                case 'W' or 'H':
                    return;
                case 'E':
                    throw FailureOf(message.Body.Span);
            }
        }
    }

    /// <summary>The next message of the stream if it is here already; false when the line must be read first.</summary>
    public bool TryNext(out WireMessage message)
    {
        message = default;
        if (!PassOver() || end - start < 5)
        {
            return false;
        }

        var length = BinaryPrimitives.ReadInt32BigEndian(buffer.AsSpan(start + 1));
        if (length > MostBytes)
        {
            return TryBeginning(length, out message);
        }

        if (end - start < length + 1)
        {
            return false;
        }

        message = new WireMessage((char)buffer[start], buffer.AsMemory(start + 5, length - 4));
        start += length + 1;
        return true;
    }

    /// <summary>Passes over what is left of a message of which only the beginning was given; false when more of it is to come.</summary>
    private bool PassOver()
    {
        var here = Math.Min(toPassOver, end - start);
        start += here;
        toPassOver -= here;
        return toPassOver == 0;
    }

    private bool TryBeginning(int length, out WireMessage message)
    {
        message = default;
        if (end - start < 5 + BeginningBytes)
        {
            return false;
        }

        toPassOver = length - 4 - BeginningBytes;
        message = new WireMessage((char)buffer[start], buffer.AsMemory(start + 5, BeginningBytes), toPassOver);
        start += 5 + BeginningBytes;
        return true;
    }

    /// <summary>
    /// Reads what the line has, waiting for it up to <paramref name="wait"/>; false when nothing came. A read that has begun
    /// continues over calls, so that nothing is torn.
    /// </summary>
    public async Task<bool> FillAsync(TimeSpan wait, CancellationToken cancellation)
    {
        if (pending is null)
        {
            if (lastRead >= BusyBytes && socket.Available < GatherBytes)
            {
                await Task.Delay(1, cancellation);
            }

            MakeRoom();
            pending = stream.ReadAsync(buffer.AsMemory(end), CancellationToken.None).AsTask();
        }

        if (!pending.IsCompleted)
        {
            await Task.WhenAny(pending, Task.Delay(wait, cancellation));
            cancellation.ThrowIfCancellationRequested();
            if (!pending.IsCompleted)
            {
                lastRead = 0;
                return false;
            }
        }

        try
        {
            lastRead = await pending;
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, Tried);
        }
        finally
        {
            pending = null;
        }

        if (lastRead == 0)
        {
            throw new PortException($"{Tried}: the server closed it.")
            {
                Transient = true,
                Remedy = "Check the server. Vestige retries automatically.",
            };
        }

        end += lastRead;
        return true;
    }

    /// <summary>Says how far everything is durable here. From any thread.</summary>
    public async Task SendStatusAsync(LogPosition durable, DateTimeOffset now, bool answer, CancellationToken cancellation)
    {
        await sending.WaitAsync(cancellation);
        try
        {
            status[0] = (byte)'d';
            BinaryPrimitives.WriteInt32BigEndian(status.AsSpan(1), 38);
            status[5] = (byte)'r';
            BinaryPrimitives.WriteUInt64BigEndian(status.AsSpan(6), durable.Offset);
            BinaryPrimitives.WriteUInt64BigEndian(status.AsSpan(14), durable.Offset);
            BinaryPrimitives.WriteUInt64BigEndian(status.AsSpan(22), durable.Offset);
            BinaryPrimitives.WriteInt64BigEndian(status.AsSpan(30), (now - Epoch).Ticks / TimeSpan.TicksPerMicrosecond);
            status[38] = answer ? (byte)1 : (byte)0;
            await stream.WriteAsync(status, cancellation);
            await stream.FlushAsync(cancellation);
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, Tried);
        }
        finally
        {
            sending.Release();
        }
    }

    /// <summary>The time of a message, which the server counts in microseconds since the year 2000.</summary>
    public static DateTimeOffset TimeOf(long microseconds) => Epoch.AddTicks(microseconds * TimeSpan.TicksPerMicrosecond);

    public async ValueTask DisposeAsync()
    {
        await stream.DisposeAsync();
        socket.Dispose();

        // Who reads meanwhile takes the failure of its read, and forgets it, too.
        if (pending is { } reading)
        {
            await Task.WhenAny(reading);
            _ = reading.Exception;
        }

        sending.Dispose();
    }

    internal static byte[] Zero(string text) => [.. Encoding.UTF8.GetBytes(text), 0];

    private static string?[] RowOf(ReadOnlySpan<byte> body)
    {
        var reader = new WireReader(body);
        var row = new string?[reader.Int16()];
        for (var i = 0; i < row.Length; i++)
        {
            var length = reader.Int32();
            row[i] = length < 0 ? null : Encoding.UTF8.GetString(reader.Bytes(length));
        }

        return row;
    }

    public PortException FailureOf(ReadOnlySpan<byte> body)
    {
        var fields = new Dictionary<char, string>();
        var reader = new WireReader(body);
        for (var kind = reader.Byte(); kind != 0; kind = reader.Byte())
        {
            fields[(char)kind] = reader.Text();
        }

        var answer = new Npgsql.PostgresException(
            fields.GetValueOrDefault('M', ""),
            fields.GetValueOrDefault('S', ""),
            fields.GetValueOrDefault('V', ""),
            fields.GetValueOrDefault('C', "XX000"),
            hint: fields.GetValueOrDefault('H')
        );
        return Failures.Of(answer, Tried);
    }

    private async Task EncryptAsync(PostgreSqlSettings settings, CancellationToken cancellation)
    {
        var request = new byte[8];
        BinaryPrimitives.WriteInt32BigEndian(request, 8);
        BinaryPrimitives.WriteInt32BigEndian(request.AsSpan(4), 80877103);
        await stream.WriteAsync(request, cancellation);
        var answer = new byte[1];
        await stream.ReadExactlyAsync(answer, cancellation);
        if (answer[0] != 'S')
        {
            if (settings.Tls == TlsMode.Prefer)
            {
                return;
            }

            throw new PortException($"{Tried}: the server does not offer TLS.")
            {
                Remedy = "Switch ssl on at the server, or choose another way of encrypting.",
            };
        }

        var encrypted = new SslStream(stream, leaveInnerStreamOpen: false);
        try
        {
            await encrypted.AuthenticateAsClientAsync(TlsChoice.OptionsOf(settings), cancellation);
        }
        catch (AuthenticationException exception)
        {
            throw new PortException($"{Tried}: the server's certificate was not accepted: {exception.Message}", exception)
            {
                Transient = true,
                Remedy = "Give the authority that signed it, or a host name that it names.",
            };
        }

        stream = encrypted;
    }

    internal Task SendAsync(char kind, ReadOnlySpan<byte> body, CancellationToken cancellation)
    {
        var message = new byte[body.Length + 5];
        message[0] = (byte)kind;
        BinaryPrimitives.WriteInt32BigEndian(message.AsSpan(1), body.Length + 4);
        body.CopyTo(message.AsSpan(5));
        return WriteAsync(message, cancellation);
    }

    internal async Task WriteAsync(byte[] bytes, CancellationToken cancellation)
    {
        try
        {
            await stream.WriteAsync(bytes, cancellation);
            await stream.FlushAsync(cancellation);
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, Tried);
        }
    }

    internal async Task<WireMessage> NextAsync(CancellationToken cancellation)
    {
        WireMessage message;
        while (!TryNext(out message))
        {
            await FillAsync(TimeSpan.FromSeconds(5), cancellation);
        }

        return message;
    }

    private void MakeRoom()
    {
        if (start == end)
        {
            start = end = 0;

            // One large value must not cost its memory for good.
            buffer = buffer.Length > BufferBytes ? new byte[BufferBytes] : buffer;
        }

        if (end < buffer.Length && (start == 0 || buffer.Length - end >= GatherBytes))
        {
            return;
        }

        var held = end - start;
        var length = held >= 5 ? BinaryPrimitives.ReadInt32BigEndian(buffer.AsSpan(start + 1)) : 0;
        var needed = length > MostBytes ? 0 : length + 1;
        var larger = needed > buffer.Length ? new byte[Math.Max(needed, buffer.Length * 2)] : buffer;
        buffer.AsSpan(start, held).CopyTo(larger);
        buffer = larger;
        start = 0;
        end = held;
    }
}
