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
    private const int GatherBytes = MessageBuffer.LeastRoomBytes;
    private const int BusyBytes = 8 << 10;
    private static readonly DateTimeOffset Epoch = new(2000, 1, 1, 0, 0, 0, TimeSpan.Zero);
    private readonly Socket socket;
    private readonly SemaphoreSlim sending = new(1);
    private readonly byte[] status = new byte[39];
    private Stream stream;
    private readonly MessageBuffer buffer = new();
    private int lastRead;
    private Task<int>? pending;

    private ReplicationLink(Socket socket, string tried)
    {
        this.socket = socket;
        Tried = tried;
        stream = new NetworkStream(socket, ownsSocket: true);
    }

    /// <summary>How messages begin that tell of a failure.</summary>
    internal string Tried { get; }

    /// <inheritdoc cref="MessageBuffer.MostBytes"/>
    public int MostBytes
    {
        get => buffer.MostBytes;
        set => buffer.MostBytes = value;
    }

    /// <summary>Whether the connection is encrypted.</summary>
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

    /// <summary>The next message of the stream if it has arrived in full; false when more must be read first.</summary>
    public bool TryNext(out WireMessage message) => buffer.TryNext(out message);

    /// <summary>
    /// Reads what the connection has, waiting for it up to <paramref name="wait"/>; false when nothing came. A read that has begun
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

            pending = stream.ReadAsync(buffer.MakeRoom(), CancellationToken.None).AsTask();
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

        buffer.Filled(lastRead);
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
        return IsOfChangedTable(answer)
            ? new PortException($"A table was changed while it was read: {answer.MessageText} (SQLSTATE {answer.SqlState}).", answer)
            {
                Transient = true,
                Remedy = "Vestige reads it again automatically.",
            }
            : Failures.Of(answer, Tried);
    }

    /// <summary>A snapshot shows rows as they were, and tables as they are: what is read here was there when it was looked up.</summary>
    private static bool IsOfChangedTable(Npgsql.PostgresException answer) =>
        answer.SqlState is Npgsql.PostgresErrorCodes.UndefinedColumn or Npgsql.PostgresErrorCodes.UndefinedTable;

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
}
