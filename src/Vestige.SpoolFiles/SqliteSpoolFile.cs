using System.Runtime.InteropServices;
using Microsoft.Data.Sqlite;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.SpoolFiles;

/// <summary>
/// One spool file as a SQLite database: records are appended in one open transaction, and a sync is its commit, with the
/// write-ahead log flushed to the disk (synchronous = FULL). Readers have a connection of their own.
/// </summary>
internal sealed class SqliteSpoolFile : ISpoolFile
{
    private const int Corrupt = 11;
    private const int NotADatabase = 26;
    private const int Full = 13;
    private const int ReadOnly = 8;
    private const int CannotOpen = 14;
    private const long WholeFile = 0;
    private readonly string path;
    private readonly SqliteConnection writing;
    private readonly SqliteConnection reading;
    private readonly SqliteCommand append;
    private readonly SqliteCommand filter;
    private readonly Lock writeGate = new();
    private readonly Lock readGate = new();
    private SqliteTransaction? open;
    private long bytes;
    private volatile bool closed;

    private SqliteSpoolFile(string path)
    {
        this.path = path;
        writing = Connect(path);
        Execute(writing, "PRAGMA page_size = 8192");
        Execute(writing, "PRAGMA journal_mode = WAL");
        Execute(writing, "PRAGMA synchronous = FULL");
        Execute(writing, "PRAGMA cache_size = -4000");
        Execute(
            writing,
            """
            CREATE TABLE IF NOT EXISTS record (
                sequence INTEGER PRIMARY KEY, kind INTEGER NOT NULL, last INTEGER NOT NULL, complete INTEGER NOT NULL,
                transactions INTEGER NOT NULL, changes INTEGER NOT NULL, body BLOB NOT NULL);
            CREATE TABLE IF NOT EXISTS key_filter (sequence INTEGER PRIMARY KEY, filter BLOB NOT NULL);
            CREATE INDEX IF NOT EXISTS record_last ON record (kind, complete, last);
            """
        );
        reading = Connect(path);
        append = writing.CreateCommand();
        append.CommandText =
            "INSERT INTO record (sequence, kind, last, complete, transactions, changes, body) VALUES ($s, $k, $l, $c, $t, $n, $b)";
        foreach (var name in new[] { "$s", "$k", "$l", "$c", "$t", "$n", "$b" })
        {
            append.Parameters.Add(new SqliteParameter(name, null));
        }

        filter = writing.CreateCommand();
        filter.CommandText = "INSERT INTO key_filter (sequence, filter) VALUES ($s, $f)";
        filter.Parameters.Add(new SqliteParameter("$s", null));
        filter.Parameters.Add(new SqliteParameter("$f", null));

        using var size = writing.CreateCommand();
        size.CommandText =
            "SELECT (SELECT coalesce(sum(length(body)), 0) FROM record) + (SELECT coalesce(sum(length(filter)), 0) FROM key_filter)";
        bytes = (long)size.ExecuteScalar()!;
    }

    public long Bytes => Interlocked.Read(ref bytes);

    public static SqliteSpoolFile Open(string path)
    {
        try
        {
            return new SqliteSpoolFile(path);
        }
        catch (SqliteException exception)
        {
            throw Failed(path, exception);
        }
    }

    public Task AppendAsync(SpoolRecord record, CancellationToken cancellation) =>
        Write(() =>
        {
            open ??= writing.BeginTransaction(deferred: false);
            append.Transaction = open;
            append.Parameters[0].Value = record.Sequence;
            append.Parameters[1].Value = (int)record.Kind;
            append.Parameters[2].Value = (long)record.Number;
            append.Parameters[3].Value = record.Complete ? 1 : 0;
            append.Parameters[4].Value = record.Transactions;
            append.Parameters[5].Value = record.Changes;
            append.Parameters[6].Value = ArrayOf(record.Body);
            append.ExecuteNonQuery();
            if (!record.Filter.IsEmpty)
            {
                filter.Transaction = open;
                filter.Parameters[0].Value = record.Sequence;
                filter.Parameters[1].Value = ArrayOf(record.Filter);
                filter.ExecuteNonQuery();
            }

            Interlocked.Add(ref bytes, record.Body.Length + record.Filter.Length);
        });

    public Task SyncAsync(CancellationToken cancellation) =>
        Write(() =>
        {
            open?.Commit();
            open?.Dispose();
            open = null;
        });

    public Task CutAsync(long afterSequence, CancellationToken cancellation) =>
        Write(() =>
        {
            open?.Dispose();
            open = null;
            using var cut = writing.CreateCommand();
            cut.CommandText = "DELETE FROM record WHERE sequence > $s; DELETE FROM key_filter WHERE sequence > $s";
            cut.Parameters.AddWithValue("$s", afterSequence);
            cut.ExecuteNonQuery();
        });

    public Task<IReadOnlyList<SpoolRecord>> ReadSideAsync(CancellationToken cancellation) =>
        Read(
            "SELECT sequence, kind, last, complete, transactions, changes, body FROM record WHERE kind <> $k ORDER BY sequence",
            int.MaxValue,
            ("$k", (int)SpoolRecordKind.Data)
        );

    // The plus signs keep the range on the primary key: by the index on kind, each read would sort the whole file.
    public Task<IReadOnlyList<SpoolRecord>> ReadAsync(long afterSequence, int bytes, CancellationToken cancellation) =>
        Read(
            "SELECT sequence, kind, last, complete, transactions, changes, body FROM record WHERE +kind = $k AND sequence > $s ORDER "
                + "BY sequence",
            bytes,
            ("$k", (int)SpoolRecordKind.Data),
            ("$s", afterSequence)
        );

    public Task KeepFilterAsync(ReadOnlyMemory<byte> filter, CancellationToken cancellation) =>
        Write(() =>
        {
            open ??= writing.BeginTransaction(deferred: false);
            using var keep = writing.CreateCommand();
            keep.Transaction = open;
            keep.CommandText = "INSERT OR REPLACE INTO key_filter (sequence, filter) VALUES ($s, $f)";
            keep.Parameters.AddWithValue("$s", WholeFile);
            keep.Parameters.AddWithValue("$f", filter.ToArray());
            keep.ExecuteNonQuery();
            Interlocked.Add(ref bytes, filter.Length);
        });

    public async Task<ReadOnlyMemory<byte>> ReadFilterAsync(CancellationToken cancellation)
    {
        var found = await Read("SELECT 0, 0, 0, 0, 0, 0, x'', filter FROM key_filter WHERE sequence = $s", int.MaxValue, ("$s", WholeFile));
        return found.Count > 0 ? found[0].Filter : default;
    }

    // Where every record has a filter, which is told by an index alone, the large records themselves are not touched.
    public Task<IReadOnlyList<SpoolRecord>> ReadFiltersAsync(CancellationToken cancellation) =>
        Read(
            """
            SELECT sequence, $k, 0, 1, 0, 0, x'', filter FROM key_filter
                WHERE sequence > 0 AND (SELECT count(*) FROM record WHERE kind = $k) = (SELECT count(*) FROM key_filter WHERE sequence > 0)
            UNION ALL
            SELECT r.sequence, r.kind, 0, 1, 0, 0, x'', f.filter FROM record r LEFT JOIN key_filter f ON f.sequence = r.sequence
                WHERE r.kind = $k AND (SELECT count(*) FROM record WHERE kind = $k) <> (SELECT count(*) FROM key_filter WHERE sequence > 0)
            ORDER BY 1
            """,
            int.MaxValue,
            ("$k", (int)SpoolRecordKind.Data)
        );

    public Task<SpoolRecord?> LastAsync(bool complete, CancellationToken cancellation) =>
        ReadOneAsync(
            complete
                ? "SELECT sequence, kind, last, complete, transactions, changes, x'' FROM record WHERE +kind = "
                    + $"{(int)SpoolRecordKind.Data} AND +complete = 1 ORDER BY sequence DESC LIMIT 1"
                : "SELECT sequence, kind, last, complete, transactions, changes, x'' FROM record ORDER BY sequence DESC LIMIT 1"
        );

    public Task<SpoolRecord?> FindAsync(ulong number, CancellationToken cancellation) =>
        ReadOneAsync(
            $"SELECT sequence, kind, last, complete, transactions, changes, x'' FROM record WHERE kind = {(int)SpoolRecordKind.Data} "
                + "AND complete = 1 AND last <= $p ORDER BY last DESC, sequence DESC LIMIT 1",
            ("$p", (long)number)
        );

    public ValueTask DisposeAsync()
    {
        closed = true;
        lock (writeGate)
        {
            open?.Dispose();
            append.Dispose();
            filter.Dispose();
            writing.Dispose();
        }

        lock (readGate)
        {
            reading.Dispose();
        }

        return ValueTask.CompletedTask;
    }

    /// <summary>The bytes as an array, which they mostly are already: a copy of a large record would cost as much again.</summary>
    private static byte[] ArrayOf(ReadOnlyMemory<byte> bytes) =>
        MemoryMarshal.TryGetArray(bytes, out var array) && array.Offset == 0 && array.Count == array.Array!.Length
            ? array.Array
            : bytes.ToArray();

    private static SqliteConnection Connect(string path)
    {
        var connection = new SqliteConnection(new SqliteConnectionStringBuilder { DataSource = path, Pooling = false }.ToString());
        connection.Open();
        return connection;
    }

    private static void Execute(SqliteConnection connection, string sql)
    {
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        command.ExecuteNonQuery();
    }

    private static PortException Damaged(string path, SqliteException exception) =>
        new($"The spool file {path} is damaged: {exception.Message}", exception)
        {
            Remedy =
                $"Restore the data folder from a backup. Or delete the folder {Path.GetDirectoryName(path)}, restart Vestige, and "
                + "reload the crossings of this source.",
        };

    private static PortException Failed(string path, SqliteException exception) =>
        exception.SqliteErrorCode is Corrupt or NotADatabase
            ? Damaged(path, exception)
            : new(
                exception.SqliteErrorCode == Full
                    ? $"The spool cannot grow: the disk that holds {path} is full. The source keeps its log meanwhile."
                    : $"The spool file {path} cannot be used: {exception.Message}",
                exception
            )
            {
                Transient = true,
                Remedy = exception.SqliteErrorCode is ReadOnly or CannotOpen
                    ? "Make sure that the user who runs Vestige can write the file and its folder; reading resumes automatically."
                    : "Free space on the disk of the data folder; reading resumes automatically.",
            };

    /// <summary>Readers never wait for a writer's flush: each side has its own connection and its own gate.</summary>
    private Task Write(Action work)
    {
        try
        {
            lock (writeGate)
            {
                ThrowIfClosed();
                work();
            }

            return Task.CompletedTask;
        }
        catch (SqliteException exception)
        {
            return Task.FromException(Failed(path, exception));
        }
        catch (PortException exception)
        {
            return Task.FromException(exception);
        }
    }

    private Task<IReadOnlyList<SpoolRecord>> Read(string sql, int limit, params ReadOnlySpan<(string Name, object Value)> values)
    {
        try
        {
            lock (readGate)
            {
                ThrowIfClosed();
                using var command = reading.CreateCommand();
                command.CommandText = sql;
                foreach (var (name, value) in values)
                {
                    command.Parameters.AddWithValue(name, value);
                }

                return Task.FromResult<IReadOnlyList<SpoolRecord>>(Records(command, limit));
            }
        }
        catch (SqliteException exception)
        {
            return Task.FromException<IReadOnlyList<SpoolRecord>>(Failed(path, exception));
        }
        catch (PortException exception)
        {
            return Task.FromException<IReadOnlyList<SpoolRecord>>(exception);
        }
    }

    private async Task<SpoolRecord?> ReadOneAsync(string sql, params (string Name, object Value)[] values)
    {
        var records = await Read(sql, int.MaxValue, values);
        return records.Count > 0 ? records[0] : null;
    }

    private static List<SpoolRecord> Records(SqliteCommand command, int limit)
    {
        var records = new List<SpoolRecord>();
        var size = 0L;
        using var reader = command.ExecuteReader();
        while (size < limit && reader.Read())
        {
            var body = reader.GetFieldValue<byte[]>(6);
            size += body.Length;
            records.Add(
                new SpoolRecord(
                    reader.GetInt64(0),
                    (SpoolRecordKind)reader.GetInt32(1),
                    (ulong)reader.GetInt64(2),
                    reader.GetInt32(3) == 1,
                    reader.GetInt64(4),
                    reader.GetInt64(5),
                    body
                )
                {
                    Filter = reader.FieldCount > 7 && !reader.IsDBNull(7) ? reader.GetFieldValue<byte[]>(7) : default,
                }
            );
        }

        return records;
    }

    private void ThrowIfClosed()
    {
        if (closed)
        {
            throw new PortException($"The spool file {path} was closed.") { Transient = true };
        }
    }
}
