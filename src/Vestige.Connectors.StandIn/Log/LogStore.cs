using SQLitePCL;
using Vestige.Connectors.StandIn.Native;
using Vestige.Core.Positions;

namespace Vestige.Connectors.StandIn.Log;

/// <summary>
/// The transaction log of a stand-in: its own tables in the same file. A transaction's position is the number of log bytes
/// written up to and with it, since the database was made. Used within the door only.
/// </summary>
internal sealed class LogStore : IDisposable
{
    public const string Schema = """
        CREATE TABLE IF NOT EXISTS vestige_meta (name TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
        CREATE TABLE IF NOT EXISTS vestige_relation (number INTEGER PRIMARY KEY, body TEXT NOT NULL);
        CREATE TABLE IF NOT EXISTS vestige_log (
            position INTEGER NOT NULL, part INTEGER NOT NULL, committed_at INTEGER NOT NULL, schema_version INTEGER NOT NULL,
            last INTEGER NOT NULL, changes INTEGER NOT NULL, body BLOB NOT NULL, route TEXT, PRIMARY KEY (position, part));
        CREATE TABLE IF NOT EXISTS vestige_progress (
            crossing TEXT PRIMARY KEY, epoch INTEGER NOT NULL, server TEXT, timeline INTEGER, position INTEGER, token TEXT) WITHOUT ROWID;
        CREATE TABLE IF NOT EXISTS vestige_progress_table (
            crossing TEXT NOT NULL, schema TEXT NOT NULL, name TEXT NOT NULL, loaded INTEGER NOT NULL, position INTEGER NOT NULL,
            held_cause TEXT, part TEXT, into_tables TEXT, settled INTEGER, form TEXT, server TEXT, timeline INTEGER,
                PRIMARY KEY (crossing, schema, name)) WITHOUT ROWID;
        """;

    /// <summary>Adds to a file of an earlier version what has come since.</summary>
    public static void AddMissingColumns(sqlite3 database, string name)
    {
        foreach (
            var (column, type) in new[]
            {
                ("part", "TEXT"),
                ("into_tables", "TEXT"),
                ("settled", "INTEGER"),
                ("form", "TEXT"),
                ("server", "TEXT"),
                ("timeline", "INTEGER"),
                ("reached", "INTEGER"),
                ("agreed", "INTEGER"),
            }
        )
        {
            AddMissing(database, name, "vestige_progress_table", column, type);
        }

        AddMissing(database, name, "vestige_progress", "token", "TEXT");
        AddMissing(database, name, "vestige_log", "route", "TEXT");
    }

    private static void AddMissing(sqlite3 database, string name, string table, string column, string type)
    {
        using var look = new Statement(database, "SELECT 1 FROM pragma_table_info(?) WHERE name = ?", name);
        look.Bind(1, table).Bind(2, column);
        if (!look.Step())
        {
            using var add = new Statement(database, $"ALTER TABLE {Quote.Name(table)} ADD COLUMN {Quote.Name(column)} {type}", name);
            add.Run();
        }
    }

    private const long TrimStep = 1 << 20;
    private readonly Statement append;
    private readonly Statement drop;
    private readonly Statement setMeta;
    private readonly StandInOptions options;
    private long confirmed;

    public LogStore(sqlite3 database, StandInOptions options)
    {
        this.options = options;
        append = new Statement(
            database,
            "INSERT INTO vestige_log (position, part, committed_at, schema_version, last, changes, body, route) VALUES (?, ?, ?, ?, "
                + "?, ?, ?, ?)",
            "log"
        );
        drop = new Statement(database, "DELETE FROM vestige_log WHERE position <= ?", "log");
        setMeta = new Statement(
            database,
            "INSERT INTO vestige_meta (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value",
            "log"
        );
        Head = ReadMeta(database, "head", 0);
        Oldest = ReadMeta(database, "oldest", 0);
        confirmed = Oldest;
    }

    /// <summary>The position of the last transaction.</summary>
    public long Head { get; private set; }

    /// <summary>What comes after this position is in the log.</summary>
    public long Oldest { get; private set; }

    /// <summary>Writes a transaction's changes and returns the new head and oldest, which hold once the transaction commits.</summary>
    /// <param name="buffer">The changes.</param>
    /// <param name="committedAt">By the stand-in's clock.</param>
    /// <param name="schemaVersion">The version of the catalogue they were made under.</param>
    /// <param name="route">Whence a crossing brought them; null for what was written here.</param>
    public (long Head, long Oldest) Write(ChangeBuffer buffer, DateTimeOffset committedAt, int schemaVersion, string? route)
    {
        var total = buffer.Bytes;
        var position = Head + Math.Max(1, total);
        var left = total;
        var number = 0;
        foreach (var (count, bytes) in buffer.Parts())
        {
            left -= bytes.Length;
            append
                .Bind(1, position)
                .Bind(2, number++)
                .Bind(3, committedAt.UtcTicks)
                .Bind(4, schemaVersion)
                .Bind(5, left == 0 ? 1 : 0)
                .Bind(6, count)
                .Bind(7, bytes.Span)
                .Bind(8, route)
                .Run();
        }

        setMeta.Bind(1, "head").Bind(2, position.ToString()).Run();
        return (position, Trim(position, TrimStep));
    }

    /// <summary>Writes a transaction that stands for as much log as may be kept, though it holds nothing.</summary>
    public (long Head, long Oldest) Fill(DateTimeOffset committedAt, int schemaVersion)
    {
        var position = Head + options.LogLimit;
        append
            .Bind(1, position)
            .Bind(2, 0L)
            .Bind(3, committedAt.UtcTicks)
            .Bind(4, schemaVersion)
            .Bind(5, 1L)
            .Bind(6, 0L)
            .Bind(7, ReadOnlySpan<byte>.Empty)
            .Bind(8, (string?)null)
            .Run();
        setMeta.Bind(1, "head").Bind(2, position.ToString()).Run();
        return (position, Trim(position, 1));
    }

    /// <summary>Takes over what <see cref="Write"/> returned, after the commit.</summary>
    public void Committed((long Head, long Oldest) state) => (Head, Oldest) = state;

    public void Confirm(LogPosition position) => confirmed = Math.Max(confirmed, (long)position.Offset);

    public void Dispose()
    {
        append.Dispose();
        drop.Dispose();
        setMeta.Dispose();
    }

    /// <summary>Drops what need not be kept, once it is worth a step.</summary>
    private long Trim(long head, long step)
    {
        var keepFrom = Math.Max(Math.Min(confirmed, head - options.LogSpan), head - options.LogLimit);
        if (keepFrom - Oldest < Math.Min(step, options.LogLimit / 4))
        {
            return Oldest;
        }

        drop.Bind(1, keepFrom).Run();
        setMeta.Bind(1, "oldest").Bind(2, keepFrom.ToString()).Run();
        return keepFrom;
    }

    private static long ReadMeta(sqlite3 database, string name, long otherwise)
    {
        using var get = new Statement(database, "SELECT value FROM vestige_meta WHERE name = ?", "log");
        get.Bind(1, name);
        return get.Step() ? long.Parse(get.Text(0)) : otherwise;
    }
}
