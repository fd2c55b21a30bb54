using Microsoft.Data.Sqlite;
using SQLitePCL;
using Vestige.Connectors.StandIn.Bench;
using Vestige.Connectors.StandIn.Catalogue;
using Vestige.Connectors.StandIn.Drills;
using Vestige.Connectors.StandIn.Log;
using Vestige.Connectors.StandIn.Native;
using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Spooling;

namespace Vestige.Connectors.StandIn;

/// <summary>
/// A small operational database in one SQLite file, with a transaction log of its own. Everything that writes passes one
/// door, one transaction at a time; the door sees every changed row and writes the log in the same SQLite transaction.
/// Readers use connections of their own and never wait. Safe for several threads. One process at a time.
/// </summary>
public sealed class StandInDatabase : IAsyncDisposable
{
    private readonly SqliteConnection connection;
    private readonly SemaphoreSlim door = new(1);
    private readonly CancellationTokenSource closing = new();
    private readonly ChangeBuffer buffer = new();
    private readonly Relations relations;
    private readonly ChangeHook hook;
    private readonly LogStore log;
    private readonly Dictionary<string, Statement> statements = [];
    private readonly TimeProvider clock;
    private readonly RefusalTriggers refusals;
    private readonly KeptReaders readers;
    private bool guarded;

    private StandInDatabase(SqliteConnection connection, string path, string name, StandInOptions options, TimeProvider clock)
    {
        Path = path;
        Name = name;
        Options = options;
        this.clock = clock;
        Drills = new StandInDrills(name, clock);
        this.connection = connection;
        readers = new KeptReaders(OpenReader);
        Run("PRAGMA journal_mode = WAL");
        Run("PRAGMA synchronous = FULL");
        Run("PRAGMA wal_autocheckpoint = 4000");
        Run("PRAGMA cache_size = -16000");
        Run("PRAGMA temp_store = FILE");
        Run("BEGIN IMMEDIATE");
        Run(LogStore.Schema);
        LogStore.AddMissingColumns(Handle, name);
        using (
            var identity = new Statement(
                Handle,
                "INSERT OR IGNORE INTO vestige_meta (name, value) VALUES ('server', lower(hex(randomblob(8))))",
                name
            )
        )
        {
            identity.Run();
        }

        relations = new Relations(Handle, name);
        relations.Load();
        Run("COMMIT");
        log = new LogStore(Handle, options);
        hook = new ChangeHook(Handle, relations, buffer);
        refusals = new RefusalTriggers(this);
        raw.sqlite3_set_authorizer(Handle, Authorize, null);
        using var server = new Statement(Handle, "SELECT value FROM vestige_meta WHERE name = 'server'", name);
        server.Step();
        Identity = new LogIdentity(server.Text(0), 1);
        Head = new LogPosition((ulong)log.Head);
        Oldest = new LogPosition((ulong)log.Oldest);
    }

    public string Path { get; }

    /// <summary>The database's name, which is also the name of its one schema.</summary>
    public string Name { get; }

    public StandInOptions Options { get; }

    public StandInDrills Drills { get; }

    public LogIdentity Identity { get; }

    /// <summary>The position of the last committed transaction.</summary>
    public LogPosition Head { get; private set; }

    /// <summary>What comes after this position is still in the log.</summary>
    public LogPosition Oldest { get; private set; }

    public long LogBytes => (long)(Head.Offset - Oldest.Offset);

    /// <summary>Beats after each commit.</summary>
    public AsyncSignal Committed { get; } = new();

    internal sqlite3 Handle => connection.Handle!;

    internal ChangeBuffer Buffer => buffer;

    /// <summary>Whence a crossing brings the rows of the open transaction; null where nobody brings them.</summary>
    internal string? Route { get; set; }

    /// <summary>Opens the file, making it when it is not there. Throws <see cref="PortException"/> when it cannot be used.</summary>
    public static StandInDatabase Open(string path, string name, StandInOptions options, TimeProvider clock)
    {
        SqliteConnection? opened = null;
        try
        {
            opened = Open(path, readOnly: false);
            return new StandInDatabase(opened, path, name, options, clock);
        }
        catch (Exception exception) when (exception is SqliteException or PortException)
        {
            opened?.Dispose();
            throw new PortException($"The stand-in {name} cannot be opened at {path}: {exception.Message}", exception)
            {
                Remedy =
                    "Make sure that the file is whole, can be written by the user that runs Vestige and is not open in another "
                    + "process. Then resume the crossings that use it.",
            };
        }
    }

    /// <summary>Opens the door for one transaction; dispose it to go out again. Without a commit nothing happened.</summary>
    public async Task<StandInTransaction> BeginAsync(bool checkReferences = true, CancellationToken cancellation = default)
    {
        await EnterAsync(cancellation);
        try
        {
            refusals.PutInForce(Drills.Refused);
            Run(checkReferences ? "PRAGMA foreign_keys = ON" : "PRAGMA foreign_keys = OFF");
            Run("BEGIN IMMEDIATE");
            Run("PRAGMA defer_foreign_keys = ON");
            return new StandInTransaction(this);
        }
        catch
        {
            Leave();
            throw;
        }
    }

    /// <summary>The tables as seen at the server itself, past the connection and its drills.</summary>
    public Task<IReadOnlyList<Engine.Ports.TableDescription>> ReadTablesAtServerAsync(CancellationToken cancellation)
    {
        cancellation.ThrowIfCancellationRequested();
        return Task.FromResult(Read(reader => Sources.StandInReads.Tables(reader, Name)));
    }

    /// <summary>
    /// A drill: one transaction without rows that takes all the room the log may have, so that the rest is dropped.
    /// </summary>
    public async Task FillLogAsync(CancellationToken cancellation)
    {
        using var transaction = await BeginAsync(cancellation: cancellation);
        transaction.CommitFilled();
    }

    /// <summary>Runs work while nobody can write, so that several readers can begin at the same state.</summary>
    internal async Task<T> WhileClosedAsync<T>(Func<T> work, CancellationToken cancellation)
    {
        await EnterAsync(cancellation);
        try
        {
            return work();
        }
        finally
        {
            door.Release();
        }
    }

    /// <summary>The head of the log, and the tables of these names as they are there.</summary>
    internal Task<(LogPosition Head, IReadOnlyList<TableSchema> Tables)> PresentAsync(
        IEnumerable<TableName> tables,
        CancellationToken cancellation
    ) =>
        WhileClosedAsync(
            () => (Head, (IReadOnlyList<TableSchema>)[.. tables.Select(table => relations.FormOf(table.Name)).OfType<TableSchema>()]),
            cancellation
        );

    /// <summary>Tells the log that everything up to here is kept elsewhere.</summary>
    internal void Confirm(LogPosition position) => log.Confirm(position);

    internal SqliteConnection OpenReader() => Open(Path, readOnly: true);

    /// <summary>Reads what is committed, past the door. The read leaves no transaction and no statement open.</summary>
    internal T Read<T>(Func<sqlite3, T> read) => readers.Read(read);

    /// <summary>A statement on the door's connection, prepared once. Only within a transaction.</summary>
    internal Statement Prepared(string sql)
    {
        if (!statements.TryGetValue(sql, out var statement))
        {
            if (statements.Count > 500)
            {
                ForgetStatements();
            }

            statement = new Statement(Handle, sql, Name);
            statements.Add(sql, statement);
        }

        return statement;
    }

    /// <summary>Runs one statement that may change the form of tables, and logs what it changed.</summary>
    internal void RunFormChange(string sql)
    {
        hook.Silenced.UnionWith(TablesOfFormChange(sql));
        try
        {
            Run(sql);
        }
        finally
        {
            hook.Silenced.Clear();
        }

        AfterStatement();
    }

    /// <summary>After each statement, or several: the log notes a change of schema after the rows changed before it.</summary>
    /// <param name="onlyMakes">Whether it was one statement, or several that only make tables.</param>
    internal void AfterStatement(bool onlyMakes = false)
    {
        hook.ThrowIfFailed();
        if (!relations.SchemaMoved())
        {
            return;
        }

        hook.ForgetNames();
        var writer = new RowWriter();
        foreach (var (number, notice) in relations.Refresh(onlyMakes))
        {
            notice.Write(writer);
            ChangeWriter.Write(buffer.Writer, ChangeKind.Schema, number, default, writer.Finish());
            buffer.Wrote();
        }
    }

    /// <summary>Puts statements typed by a person under guard: they may not steer transactions or touch our own tables.</summary>
    internal void Guard(bool on) => guarded = on;

    internal TableSchema? RelationOf(int number) => relations.FormOf(number);

    /// <summary>Rows of these tables are not logged by the next statement, which changes their form.</summary>
    internal void Silence(IEnumerable<string> tables)
    {
        hook.Silenced.Clear();
        hook.Silenced.UnionWith(tables);
    }

    internal void Commit()
    {
        hook.ThrowIfFailed();
        var state = (log.Head, log.Oldest);
        if (buffer.Count > 0)
        {
            state = log.Write(buffer, clock.GetUtcNow(), relations.SchemaVersion, Route);
        }

        Finish(state);
    }

    /// <summary>Makes the log as full as it may be, at once.</summary>
    internal void CommitFilled() => Finish(log.Fill(clock.GetUtcNow(), relations.SchemaVersion));

    private void Finish((long Head, long Oldest) state)
    {
        Run("COMMIT");
        log.Committed(state);
        relations.Committed();
        Head = new LogPosition((ulong)log.Head);
        Oldest = new LogPosition((ulong)log.Oldest);
    }

    internal void Rollback()
    {
        if (raw.sqlite3_get_autocommit(Handle) == 0)
        {
            Run("ROLLBACK");
        }

        if (relations.SchemaMoved())
        {
            hook.ForgetNames();
        }

        relations.RolledBack();
    }

    internal void Leave()
    {
        buffer.Clear();
        hook.Silenced.Clear();
        guarded = false;
        Route = null;
        door.Release();
        Committed.Beat();
    }

    internal void Run(string sql)
    {
        var code = raw.sqlite3_exec(Handle, sql);
        if (code != raw.SQLITE_OK)
        {
            throw SqliteFailure.Of(Handle, raw.sqlite3_extended_errcode(Handle), Name);
        }
    }

    /// <summary>Waits for the transaction at work; those that wait for their turn are told that the database is closed.</summary>
    public async ValueTask DisposeAsync()
    {
        if (closing.IsCancellationRequested)
        {
            return;
        }

        await closing.CancelAsync();
        await door.WaitAsync();
        ForgetStatements();
        hook.Dispose();
        log.Dispose();
        buffer.Dispose();
        readers.Dispose();
        connection.Dispose();
    }

    private async Task EnterAsync(CancellationToken cancellation)
    {
        using var either = CancellationTokenSource.CreateLinkedTokenSource(cancellation, closing.Token);
        try
        {
            await door.WaitAsync(either.Token);
        }
        catch (OperationCanceledException exception) when (!cancellation.IsCancellationRequested)
        {
            throw new PortException($"The stand-in {Name} was closed.", exception) { Transient = true };
        }
    }

    private static SqliteConnection Open(string path, bool readOnly)
    {
        var opened = new SqliteConnection(
            new SqliteConnectionStringBuilder
            {
                DataSource = path,
                Mode = readOnly ? SqliteOpenMode.ReadOnly : SqliteOpenMode.ReadWriteCreate,
                Pooling = false,
            }.ToString()
        );
        opened.Open();
        raw.sqlite3_busy_timeout(opened.Handle, 5000);
        raw.sqlite3_extended_result_codes(opened.Handle, 1);
        return opened;
    }

    private static IEnumerable<string> TablesOfFormChange(string sql) => SchemaStatement.TableOf(sql) is { } table ? [table] : [];

    private void ForgetStatements()
    {
        foreach (var statement in statements.Values)
        {
            statement.Dispose();
        }

        statements.Clear();
    }

    private int Authorize(object data, int action, string? first, string? second, string? database, string? trigger) =>
        guarded ? StatementGuard.Judge(action, first, second) : raw.SQLITE_OK;
}
