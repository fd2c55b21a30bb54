using System.Globalization;
using Npgsql;
using Vestige.Connectors.PostgreSql.Loading;
using Vestige.Connectors.PostgreSql.Log;
using Vestige.Connectors.PostgreSql.Readiness;
using Vestige.Connectors.PostgreSql.Watching;
using Vestige.Connectors.PostgreSql.Wire;
using Vestige.Core.Positions;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql;

/// <summary>
/// A database whose log is read through one logical replication slot, named for this installation. Once the spool is of a
/// slot, the slot is never made again silently: what lay between would be lost.
/// </summary>
public sealed class PostgreSqlSource(PostgreSqlSettings settings, LogNames names, TimeProvider clock)
    : PostgreSqlDatabase(settings, clock),
        ILogSource,
        IRowSource,
        ISourceViews
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(10);
    private volatile PostgreSqlLogReader? reading;
    private volatile LogIdentity? identity;

    public LogNames Names => names;

    public async Task<SourceHead> SampleAsync(LogPosition captured, CancellationToken cancellation)
    {
        using var patience = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        patience.CancelAfter(Patience);
        try
        {
            return await LookAsync(captured.Branch, patience.Token);
        }
        catch (Exception exception) when (IsSilence(exception) && !cancellation.IsCancellationRequested)
        {
            throw new PortException($"Looking at the log in {Endpoint}: no answer in {Patience.TotalSeconds:0} s.", exception)
            {
                Transient = true,
                Remedy = "Check the server and the network. Vestige retries automatically.",
            };
        }
    }

    /// <summary>Our patience ended, or the driver's, which is as long while it connects.</summary>
    private static bool IsSilence(Exception exception) =>
        exception
            is OperationCanceledException
                or PortException { InnerException: TimeoutException or NpgsqlException { InnerException: TimeoutException } };

    private async Task<SourceHead> LookAsync(int branch, CancellationToken cancellation)
    {
        var known = identity ??= await IdentifyAsync(cancellation);
        var (head, oldest, limit, now, written) = await UseAsync("Looking at the log", SampleAsync, cancellation);
        var held = (long)(head.Offset - Math.Min(head.Offset, oldest?.Offset ?? head.Offset));
        return new SourceHead(known, head.On(branch), (oldest ?? LogPosition.Zero).On(branch), held, limit, null, now, written.On(branch));
    }

    public async Task<LogStart> BeginLogAsync(CancellationToken cancellation)
    {
        await EndLogAsync(cancellation);
        await UseAsync(
            "Making the publications",
            async (connection, stop) =>
            {
                await Publication.MakeAsync(connection, names, stop);
                return true;
            },
            cancellation
        );
        await using var link = await ReplicationLink.OpenAsync(Settings, cancellation);
        var slot = await link.QueryAsync(
            $"CREATE_REPLICATION_SLOT {Quote.Name(names.Slot)} LOGICAL pgoutput NOEXPORT_SNAPSHOT",
            cancellation
        );
        return new LogStart(Lsn.Of(slot[0][1]!));
    }

    public async Task EndLogAsync(CancellationToken cancellation)
    {
        // The server takes a moment to notice that a reader has gone, and keeps the slot busy meanwhile.
        for (var tries = 1; ; tries++)
        {
            try
            {
                await DropAsync(cancellation);
                return;
            }
            catch (PortException exception) when (exception.InnerException is PostgresException { SqlState: "55006" } && tries < 50)
            {
                await Task.Delay(TimeSpan.FromMilliseconds(200), Clock, cancellation);
            }
        }
    }

    private async Task DropAsync(CancellationToken cancellation)
    {
        await UseAsync(
            "Dropping the slot",
            async (connection, stop) =>
            {
                await using var drop = new NpgsqlCommand(
                    "SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots WHERE slot_name = $1",
                    connection
                );
                drop.Parameters.Add(Text(names.Slot));
                await drop.ExecuteNonQueryAsync(stop);
                await Publication.DropAsync(connection, names, stop);

                return true;
            },
            cancellation
        );
    }

    public async Task<LogContinuity> ContinueAsync(ResumeToken token, CancellationToken cancellation) =>
        LogContinuity.ByIdentity(token, identity ??= await IdentifyAsync(cancellation));

    public async Task<ILogReader> OpenLogAsync(LogRequest request, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(request);

        // A server knows one log; the number of its branch is put on what is given out.
        var branch = request.After.Branch;
        request = request with { After = request.After.On(0) };
        var tables = request.Tables;
        var mark = request.Notes.GetValueOrDefault(LogHeartbeat.NoteName);
        var begin = LogHeartbeat.BeginOf(mark) ?? request.After;
        await UseAsync(
            "Looking at the publication",
            (connection, stop) => CheckPublicationAsync(connection, request.Before.Count > 0, stop),
            cancellation
        );
        await UseAsync(
            "Looking at the slot",
            (connection, stop) => CheckSlotAsync(connection, branch, request.After, begin, stop),
            cancellation
        );
        await UseAsync(
            "Looking for wholes and their parts",
            (connection, stop) => Publication.RefuseTwiceAsync(connection, tables, stop),
            cancellation
        );
        var added = tables.Where(table => !request.Before.Contains(table)).ToHashSet();
        await UseAsync("Adding tables to the publication", (connection, stop) => CarryAsync(connection, added, stop), cancellation);
        var publications = await UseAsync(
            "Looking at the publications",
            (connection, stop) => Publication.NamesAsync(connection, names, stop),
            cancellation
        );
        var hasMarks = await UseAsync("Looking whether marks can be written", LogHeartbeat.ArePossibleAsync, cancellation);
        var tellsMessages = await UseAsync("Looking whether messages are told", LogHeartbeat.AreToldAsync, cancellation);
        var who = await GetIdentityAsync(cancellation);
        var parts = await PartWatch.BeginAsync(this, tables, request.Notes, Clock, cancellation);
        var watch = await TableWatch.BeginAsync(this, names, request, Clock, cancellation);
        var link = await ReplicationLink.OpenAsync(Settings, cancellation);
        try
        {
            var found = await IdentifyAsync(link, cancellation);
            if ((request.Log ?? identity) is { } wanted && wanted != found)
            {
                identity = found;
                throw new PortException($"{Endpoint} is now {found}.") { Transient = true };
            }

            await link.StartAsync(
                $"START_REPLICATION SLOT {Quote.Name(names.Slot)} LOGICAL {Lsn.Format(begin)} (proto_version '1', publication_names "
                    + $"{Quote.Literal(Quote.Names(publications))}{(tellsMessages ? ", messages 'true'" : "")})",
                cancellation
            );
        }
        catch
        {
            await link.DisposeAsync();
            throw;
        }

        var marks = new LogHeartbeat(this, names.Slot, mark, hasMarks, Clock);
        var reader = new PostgreSqlLogReader(
            link,
            new RelationSchemas(this, watch, tables, request.Known),
            marks,
            parts,
            watch,
            who,
            request.After,
            branch,
            Clock,
            Forget
        );
        reading = reader;
        return reader;
    }

    public async Task EnsureReadAsync(IReadOnlyList<TableName> tables, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(tables);
        var reader = reading
            ?? throw new PortException($"The log of {Endpoint} is not being read.")
            {
                Transient = true,
                Remedy = "Retrying automatically.",
            };
        if (tables.FirstOrDefault(reader.IsLosing) is { Name: not null } losing)
        {
            throw new PortException($"{losing} in {Endpoint} is not published yet.")
            {
                Transient = true,
                Remedy = "Retrying automatically.",
            };
        }

        await UseAsync(
            "Adding tables to the publication",
            (connection, stop) => CarryAsync(connection, tables.ToHashSet(), stop),
            cancellation
        );
    }

    public Task ConfirmAsync(LogPosition position, CancellationToken cancellation) => reading?.ConfirmAsync(position) ?? Task.CompletedTask;

    public async Task<ISourceSnapshot> OpenSnapshotAsync(int readers, int branch, CancellationToken cancellation) =>
        await PostgreSqlSnapshot.OpenAsync(this, readers, branch, Clock, cancellation);

    public async Task<IRowsView> OpenViewAsync(int branch, CancellationToken cancellation) =>
        await PostgreSqlView.OfSourceAsync(this, branch, cancellation);

    public Task<IReadOnlyList<ReadinessCheck>> CheckSourceAsync(IReadOnlyList<TableName> tables, CancellationToken cancellation) =>
        UseAsync("Checking", (connection, stop) => SourceReadiness.CheckAsync(connection, this, tables, stop), cancellation);

    public string Footprint =>
        "The source keeps a replication slot and two publications of Vestige's own; they are dropped with the last crossing of that "
        + "source. "
        + "While others write there, Vestige writes a small mark into its log every 10 s.";

    public string Format(LogPosition position) => Lsn.Format(position);

    public LogPosition? Parse(string text, int branch) => Lsn.Parse(text)?.On(branch);

    public long Distance(LogPosition from, LogPosition to) => (long)to.Offset - (long)from.Offset;

    public override async ValueTask DisposeAsync()
    {
        if (reading is { } open)
        {
            await open.DisposeAsync();
        }

        await base.DisposeAsync();
        GC.SuppressFinalize(this);
    }

    private void Forget()
    {
        reading = null;
        identity = null;
    }

    private async Task<bool> CarryAsync(NpgsqlConnection connection, IReadOnlySet<TableName> tables, CancellationToken cancellation)
    {
        await Publication.CarryAsync(connection, names, tables, cancellation);
        return true;
    }

    private async Task<LogIdentity> IdentifyAsync(CancellationToken cancellation)
    {
        await using var link = await ReplicationLink.OpenAsync(Settings, cancellation);
        return await IdentifyAsync(link, cancellation);
    }

    private static async Task<LogIdentity> IdentifyAsync(ReplicationLink link, CancellationToken cancellation)
    {
        var row = (await link.QueryAsync("IDENTIFY_SYSTEM", cancellation))[0];
        return new LogIdentity(row[0]!, long.Parse(row[1]!, CultureInfo.InvariantCulture));
    }

    private async Task<(LogPosition Head, LogPosition? Oldest, long? Limit, DateTimeOffset Now, LogPosition Written)> SampleAsync(
        NpgsqlConnection connection,
        CancellationToken cancellation
    )
    {
        const string Sql = """
            SELECT pg_current_wal_flush_lsn()::text, s.restart_lsn::text, extract(epoch FROM clock_timestamp())::float8,
                   (SELECT setting::int8 FROM pg_settings WHERE name = 'max_slot_wal_keep_size'),
                   pg_current_wal_insert_lsn()::text
            FROM (SELECT 1) one LEFT JOIN pg_replication_slots s ON s.slot_name = $1
            """;
        await using var command = new NpgsqlCommand(Sql, connection);
        command.Parameters.Add(Text(names.Slot));
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        await reader.ReadAsync(cancellation);
        var limit = reader.IsDBNull(3) ? -1 : reader.GetInt64(3);
        return (
            Lsn.Of(reader.GetString(0)),
            reader.IsDBNull(1) ? (LogPosition?)null : Lsn.Of(reader.GetString(1)),
            limit < 0 ? (long?)null : limit << 20,
            DateTimeOffset.UnixEpoch.AddSeconds(reader.GetDouble(2)),
            Lsn.EndOf(Lsn.Of(reader.GetString(4)))
        );
    }

    private async Task<bool> CheckSlotAsync(
        NpgsqlConnection connection,
        int branch,
        LogPosition after,
        LogPosition begin,
        CancellationToken cancellation
    )
    {
        const string Remedy = "Load the crossings of this source again, or give them up.";
        var wal = await HasColumnAsync(connection, cancellation) ? "wal_status" : "NULL::text";
        await using var command = new NpgsqlCommand(
            $"SELECT confirmed_flush_lsn::text, {wal}, active_pid, plugin::text, database::text, pg_current_wal_flush_lsn()::text "
                + "FROM (SELECT 1) one LEFT JOIN pg_replication_slots ON slot_name = $1",
            connection
        );
        command.Parameters.Add(Text(names.Slot));
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        await reader.ReadAsync(cancellation);
        var head = Lsn.Of(reader.GetString(5));
        if (reader.IsDBNull(3))
        {
            throw new PlaceLostException(
                $"The replication slot {names.Slot} in {Endpoint} was dropped. Changes committed since then are lost to it."
            )
            {
                Remedy = Remedy,
            };
        }

        if (!reader.IsDBNull(1) && reader.GetString(1) == "lost")
        {
            throw new PlaceLostException(
                $"The server dropped log that the replication slot {names.Slot} in {Endpoint} still needed: its limit on kept log was "
                    + "reached."
            )
            {
                Remedy = Remedy,
            };
        }

        if (head < after)
        {
            throw new PlaceLostException(
                $"The log of {Endpoint} ends at {Lsn.Format(head)}, before {Lsn.Format(after)} which was read from it. The database was "
                    + "restored from an older state."
            )
            {
                Remedy = Remedy,
            };
        }

        if (!reader.IsDBNull(0) && Lsn.Of(reader.GetString(0)) > begin)
        {
            throw new PlaceLostException(
                $"The replication slot {names.Slot} in {Endpoint} was moved to {reader.GetString(0)}, beyond {Lsn.Format(begin)} which "
                    + "is all that was confirmed from here."
            )
            {
                Remedy = Remedy,
                ContinuesAt = Lsn.Of(reader.GetString(0)).On(branch),
            };
        }

        if (!reader.IsDBNull(2))
        {
            throw new PortException(
                $"The replication slot {names.Slot} in {Endpoint} is being read by process {reader.GetInt32(2)} of the server."
            )
            {
                Transient = true,
                Remedy = "If no other Vestige reads it, the server releases it within wal_sender_timeout.",
            };
        }

        return true;
    }

    /// <summary>A publication that someone dropped may not be made again as if nothing had happened.</summary>
    private async Task<bool> CheckPublicationAsync(NpgsqlConnection connection, bool wasRead, CancellationToken cancellation) =>
        !wasRead || await Publication.TablesAsync(connection, names.Publication, cancellation) is not null
            ? true
            : throw Publication.Dropped(names, Endpoint);

    private static async Task<bool> HasColumnAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand("SELECT current_setting('server_version_num')::int4 >= 130000", connection);
        return (bool)(await command.ExecuteScalarAsync(cancellation))!;
    }
}
