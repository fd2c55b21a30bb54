using Npgsql;
using NpgsqlTypes;
using Vestige.Connectors.PostgreSql.Catalogue;
using Vestige.Connectors.PostgreSql.Readiness;
using Vestige.Connectors.PostgreSql.Targets;
using Vestige.Core.Changes;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql;

/// <summary>One database of a server, as source and target have it in common. Safe for several threads.</summary>
public abstract class PostgreSqlDatabase : IProbe, ICatalogue, IRowLookup, IAsyncDisposable
{
    /// <summary>Begins a transaction that only looks, and gives up before it is in anybody's way.</summary>
    internal const string LookLimits =
        "SET TRANSACTION READ ONLY; SET LOCAL statement_timeout = '5s'; SET LOCAL lock_timeout = '1s'";

    private const int MostLooks = 50;
    private readonly NpgsqlDataSource pooled;
    private readonly NpgsqlDataSource single;

    protected PostgreSqlDatabase(PostgreSqlSettings settings, TimeProvider clock)
    {
        ArgumentNullException.ThrowIfNull(settings);
        Settings = settings;
        Clock = clock;
        pooled = SourceOf(settings, isPooled: true);
        single = SourceOf(settings, isPooled: false);
    }

    public string Engine => "postgresql";

    public IEngineTypes Types => PostgreSqlTypes.Instance;

    public PostgreSqlSettings Settings { get; }

    /// <summary>How messages name the server.</summary>
    internal string Endpoint => $"{Settings.Database} at {Settings.Host}:{Settings.Port}";

    protected TimeProvider Clock { get; }

    public Task<string> GetIdentityAsync(CancellationToken cancellation) =>
        UseAsync(
            "Identifying the database",
            async (connection, stop) =>
            {
                await using var command = new NpgsqlCommand(
                    "SELECT system_identifier::text || '/' || (SELECT oid::text FROM pg_database WHERE datname = current_database()) "
                        + "|| '/' || CASE WHEN pg_is_in_recovery() THEN 'standby' ELSE substr(pg_walfile_name(pg_current_wal_lsn()), 1, "
                        + "8) END FROM pg_control_system()",
                    connection
                );
                return (string)(await command.ExecuteScalarAsync(stop))!;
            },
            cancellation
        );

    /// <summary>
    /// A lock taken here is seen there: the locks of a server are in its memory, so that a copy of its files does not have them.
    /// </summary>
    public async Task<bool> IsSameAsync(IProbe other, CancellationToken cancellation)
    {
        if (other is not PostgreSqlDatabase there)
        {
            return false;
        }

        var (high, low) = (Random.Shared.Next(), Random.Shared.Next());
        return await UseAsync(
            "Identifying the database",
            async (connection, stop) =>
            {
                // In a transaction, so that a pooler on the way keeps the session that has the lock.
                await using var transaction = await connection.BeginTransactionAsync(stop);
                await using var take = new NpgsqlCommand($"SELECT pg_advisory_xact_lock_shared({high}, {low})", connection, transaction);
                await take.ExecuteNonQueryAsync(stop);
                return await there.HasLockAsync(high, low, stop);
            },
            cancellation
        );
    }

    private Task<bool> HasLockAsync(int high, int low, CancellationToken cancellation) =>
        UseAsync(
            "Identifying the database",
            async (connection, stop) =>
            {
                // Two numbers of 32 bits stand in classid and objid, with objsubid 2 (PostgreSQL manual, pg_locks).
                await using var look = new NpgsqlCommand(
                    $"SELECT EXISTS (SELECT FROM pg_locks WHERE locktype = 'advisory' AND classid = {high} AND objid = {low} AND "
                        + "objsubid = 2 AND database = (SELECT oid FROM pg_database WHERE datname = current_database()))",
                    connection
                );
                return (bool)(await look.ExecuteScalarAsync(stop))!;
            },
            cancellation
        );

    public Task<IReadOnlyList<TableDescription>> ReadTablesAsync(CancellationToken cancellation) =>
        UseMovingAsync("Reading the catalogue", CatalogueReader.ReadAsync, cancellation);

    public Task<IReadOnlyList<ReadinessCheck>> TestAsync(CancellationToken cancellation) => Ladder.ClimbAsync(this, Clock, cancellation);

    public Task<long> CountAsync(TableName table, SharedRows? only, CancellationToken cancellation) =>
        UseAsync(
            $"Counting {table}",
            async (connection, stop) =>
            {
                await using var command = new NpgsqlCommand(
                    "SELECT count(*) FROM "
                        + $"{await OwnRowsAsync(connection, table, stop)}{(only is null ? "" : $" WHERE {Quote.Name(only.Column)} = $1")}",
                    connection
                );
                if (only is not null)
                {
                    command.Parameters.Add(Text(only.Value));
                }

                return (long)(await command.ExecuteScalarAsync(stop))!;
            },
            cancellation
        );

    public Task<RowCount> EstimateAsync(TableName table, SharedRows? only, CancellationToken cancellation) =>
        UseAsync(
            $"Counting {table}",
            async (connection, stop) =>
                await BoundedCount.OfAsync(connection, await OwnRowsAsync(connection, table, stop), table, only, stop),
            cancellation
        );

    public Task<long?> CountValuesAsync(TableName table, string column, CancellationToken cancellation) =>
        CountAsync($"Counting values of {table}", table, rows => $"SELECT count({Quote.Name(column)}) FROM {rows}", cancellation);

    public Task<long?> CountWithinAsync(TableName table, string bounds, CancellationToken cancellation) =>
        CountAsync($"Counting rows of {table}", table, rows => $"SELECT count(*) FROM {rows} WHERE {bounds}", cancellation);

    /// <summary>Null where it takes too long, and for what is not there.</summary>
    private Task<long?> CountAsync(string what, TableName table, Func<string, string> statement, CancellationToken cancellation) =>
        UseAsync(
            what,
            async (connection, stop) =>
            {
                try
                {
                    await using var transaction = await connection.BeginTransactionAsync(stop);
                    await using var limit = new NpgsqlCommand(LookLimits, connection);
                    await limit.ExecuteNonQueryAsync(stop);
                    await using var count = new NpgsqlCommand(statement(await OwnRowsAsync(connection, table, stop)), connection);
                    return (long?)await count.ExecuteScalarAsync(stop);
                }
                catch (PostgresException exception) when (exception.SqlState is "57014" or "55P03" or "42P01" or "42703")
                {
                    return null;
                }
            },
            cancellation
        );

    public Task<Row?> FindAsync(TableSchema table, IReadOnlyList<string> key, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(table);
        ArgumentNullException.ThrowIfNull(key);
        return key.Count != table.KeyOrdinals.Count
            ? Task.FromResult<Row?>(null)
            : UseAsync($"Reading a row of {table.Name}", (connection, stop) => FindAsync(connection, table, key, stop), cancellation);
    }

    public Task<IReadOnlyList<Row>> SampleRowsAsync(TableSchema table, int rows, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(table);
        return UseAsync(
            $"Looking at rows of {table.Name}",
            (connection, stop) => SampleRowsAsync(connection, table, rows, stop),
            cancellation
        );
    }

    /// <summary>Runs a question on a connection of the pool.</summary>
    internal async Task<T> UseAsync<T>(string what, Func<NpgsqlConnection, CancellationToken, Task<T>> ask, CancellationToken cancellation)
    {
        try
        {
            await using var connection = await pooled.OpenConnectionAsync(cancellation);
            return await ask(connection, cancellation);
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"{what} in {Endpoint}");
        }
    }

    /// <summary>
    /// Asks about structure, which others may change meanwhile; the driver gives up the connection on which that fails. Asked again, the
    /// object is found to be gone.
    /// </summary>
    internal async Task<T> UseMovingAsync<T>(
        string what,
        Func<NpgsqlConnection, CancellationToken, Task<T>> ask,
        CancellationToken cancellation
    )
    {
        for (var attempt = 1; attempt < MostLooks; attempt++)
        {
            try
            {
                return await UseAsync(what, ask, cancellation);
            }
            catch (PortException exception) when (Failures.IsOfMovedStructure(exception.InnerException))
            {
                // Once more.
            }
        }

        return await UseAsync(what, ask, cancellation);
    }

    /// <summary>Opens a connection of one's own, not from the pool.</summary>
    internal async Task<NpgsqlConnection> OpenAsync(CancellationToken cancellation)
    {
        try
        {
            return await single.OpenConnectionAsync(cancellation);
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"Connecting to {Endpoint}");
        }
    }

    /// <summary>Runs statements on a connection of one's own, each by itself.</summary>
    internal async Task RunAsync(string what, IEnumerable<string> statements, CancellationToken cancellation)
    {
        await using var connection = await OpenAsync(cancellation);
        foreach (var statement in statements)
        {
            try
            {
                await using var command = new NpgsqlCommand(statement, connection);
                await command.ExecuteNonQueryAsync(cancellation);
            }
            catch (Exception exception) when (Failures.IsServers(exception))
            {
                throw Failures.Of(exception, $"{what} in {Endpoint}");
            }
        }
    }

    /// <summary>A parameter that the server reads by the input rule of the type it meets, as it does with a literal.</summary>
    internal static NpgsqlParameter Text(string? value) =>
        new() { Value = (object?)value ?? DBNull.Value, NpgsqlDbType = NpgsqlDbType.Unknown };

    internal static NpgsqlParameter Texts(IEnumerable<string> values) =>
        new() { Value = values.ToArray(), NpgsqlDbType = NpgsqlDbType.Array | NpgsqlDbType.Text };

    public virtual async ValueTask DisposeAsync()
    {
        await pooled.DisposeAsync();
        await single.DisposeAsync();
        GC.SuppressFinalize(this);
    }

    private static NpgsqlDataSource SourceOf(PostgreSqlSettings settings, bool isPooled)
    {
        var builder = new NpgsqlDataSourceBuilder(settings.ConnectionString(isPooled));
        builder.ConfigureTypeLoading(loading => loading.EnableTypeLoading(false));
        return builder.Build();
    }

    /// <summary>
    /// The table as it is read: without the rows of tables that inherit from it, which cross by themselves and are logged as
    /// theirs; a partitioned table has no other rows than those of its parts.
    /// </summary>
    internal static string OwnRows(TableName table, bool isPlainTable) => isPlainTable ? $"ONLY {Quote.Name(table)}" : Quote.Name(table);

    private static async Task<string> OwnRowsAsync(NpgsqlConnection connection, TableName table, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand("SELECT relkind = 'r' FROM pg_class WHERE oid = to_regclass($1)", connection);
        command.Parameters.Add(Text(Quote.Name(table)));
        return OwnRows(table, await command.ExecuteScalarAsync(cancellation) is true);
    }

    private static async Task<Row?> FindAsync(
        NpgsqlConnection connection,
        TableSchema table,
        IReadOnlyList<string> key,
        CancellationToken cancellation
    )
    {
        var columns = string.Join(", ", table.Columns.Select(column => $"{Quote.Name(column.Name)}::text"));
        var conditions = string.Join(" AND ", table.KeyOrdinals.Select((ordinal, i) => KeyComparison.Equal(table.Columns[ordinal], i + 1)));
        await using var command = new NpgsqlCommand(
            $"SELECT {columns} FROM {await OwnRowsAsync(connection, table.Name, cancellation)} WHERE {conditions}",
            connection
        );
        foreach (var value in key)
        {
            command.Parameters.Add(Text(value));
        }

        try
        {
            await using var reader = await command.ExecuteReaderAsync(cancellation);
            return await reader.ReadAsync(cancellation) ? RowOf(reader) : null;
        }
        catch (PostgresException exception) when (exception.SqlState.StartsWith("22", StringComparison.Ordinal))
        {
            // What was typed cannot be a value of the key's type, so there is no such row.
            return null;
        }
    }

    /// <summary>Looking must not write, whatever a view calls, nor wait long for a lock or for a view that sorts a whole table.</summary>
    private static async Task<IReadOnlyList<Row>> SampleRowsAsync(
        NpgsqlConnection connection,
        TableSchema table,
        int rows,
        CancellationToken cancellation
    )
    {
        var columns =
            table.Columns.Count == 0
                ? "NULL"
                : string.Join(", ", table.Columns.Select(column => $"left({Quote.Name(column.Name)}::text, 200)"));
        await using var transaction = await connection.BeginTransactionAsync(cancellation);
        await using var guard = new NpgsqlCommand(
            LookLimits,
            connection
        );
        await guard.ExecuteNonQueryAsync(cancellation);
        await using var command = new NpgsqlCommand(
            $"SELECT {columns} FROM {await OwnRowsAsync(connection, table.Name, cancellation)} LIMIT {rows}",
            connection
        );
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        var found = new List<Row>();
        while (await reader.ReadAsync(cancellation))
        {
            found.Add(RowOf(reader));
        }

        return found;
    }

    private static Row RowOf(NpgsqlDataReader reader)
    {
        var writer = new RowWriter();
        writer.Begin(reader.FieldCount);
        for (var i = 0; i < reader.FieldCount; i++)
        {
            if (reader.IsDBNull(i))
            {
                writer.Null();
            }
            else
            {
                writer.Text(reader.GetString(i));
            }
        }

        return writer.ToRow();
    }
}
