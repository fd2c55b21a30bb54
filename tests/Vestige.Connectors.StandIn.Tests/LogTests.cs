using CsCheck;
using Microsoft.Data.Sqlite;
using Vestige.Connectors.StandIn.Bench;
using Vestige.Connectors.StandIn.Sources;
using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>The log must tell every changed row, whatever statement changed it. What SQLite itself holds is the outside check.</summary>
public sealed class LogTests : IDisposable
{
    private readonly TemporaryFolder folder = new();
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    public void Dispose() => folder.Dispose();

    [Theory]
    [InlineData("INSERT INTO child VALUES (10, 1, 'x')", "+child 10")]
    [InlineData("UPDATE child SET name = 'y' WHERE id = 1", "~child 1")]
    [InlineData("DELETE FROM child WHERE id = 1", "-child 1")]
    [InlineData("DELETE FROM child", "-child 1;-child 2;-child 3")]
    [InlineData("REPLACE INTO child VALUES (1, 2, 'z')", "-child 1;+child 1")]
    [InlineData("INSERT OR REPLACE INTO tag VALUES (9, 'one')", "-tag 1;+tag 9")]
    [InlineData("DELETE FROM parent WHERE id = 1", "-parent 1;-child 1;-child 2")]
    [InlineData("UPDATE parent SET id = 7 WHERE id = 1", "~parent 7;~child 1;~child 2")]
    [InlineData("INSERT INTO tag VALUES (1, 'again') ON CONFLICT (id) DO UPDATE SET name = excluded.name", "~tag 1")]
    [InlineData(
        "UPDATE tag SET name = 'two' WHERE id = 2; DELETE FROM tag WHERE id = 2; INSERT INTO tag VALUES (2, 'new')",
        "~tag 2;-tag 2;+tag 2"
    )]
    [InlineData("INSERT INTO noted VALUES (1)", "+noted 1;+tag 100")]
    [InlineData("UPDATE pair SET a = 5 WHERE a = 1", "~pair 5, 2")]
    public async Task Every_changed_row_is_logged(string statement, string expected)
    {
        await using var database = await MakeAsync();
        var before = database.Head;
        await StandInBench.RunAsync(database, statement, TimeProvider.System, cancellation);
        var seen = await ReadAsync(database, before);
        Assert.Equal(expected.Split(';').Order(), seen.Select(change => Show(database, change)).Order());
    }

    [Theory]
    [InlineData("ALTER TABLE tag ADD COLUMN colour TEXT DEFAULT 'red'", "column colour added")]
    [InlineData("ALTER TABLE child DROP COLUMN name", "column name dropped")]
    [InlineData("ALTER TABLE tag RENAME COLUMN name TO label", "column name renamed to label")]
    [InlineData("CREATE TABLE fresh (id INTEGER PRIMARY KEY)", "table created")]
    [InlineData("DROP TABLE pair", "table dropped")]
    [InlineData("CREATE INDEX by_name ON tag (name)", "")]
    [InlineData("CREATE VIEW seen AS SELECT * FROM tag", "")]
    [InlineData(
        "CREATE TABLE fresh (id INTEGER PRIMARY KEY); CREATE VIEW w AS SELECT 1; CREATE TABLE c (id INTEGER PRIMARY KEY, f REFERENCES "
            + "fresh); CREATE UNIQUE INDEX i ON tag (name, id); ALTER TABLE fresh ADD x; CREATE INDEX j ON fresh (x); DROP TABLE fresh; "
            + "CREATE TABLE fresh (id INTEGER PRIMARY KEY, y)",
        "table created,column x added,table dropped,table created"
    )]
    public async Task Changes_of_form_are_logged_and_nothing_else(string statement, string expected)
    {
        await using var database = await MakeAsync();
        var before = database.Head;
        await StandInBench.RunAsync(database, statement, TimeProvider.System, cancellation);
        var seen = await ReadAsync(database, before);
        Assert.All(seen, change => Assert.Equal(ChangeKind.Schema, change.Kind));
        Assert.Equal(expected, string.Join(",", seen.Select(change => change.After.TextAt(0))));
    }

    /// <summary>The tables behind it are none of the database's own.</summary>
    [Fact]
    public async Task A_virtual_table_is_refused_and_the_log_goes_on()
    {
        await using var database = await MakeAsync();
        var before = database.Head;
        await Assert.ThrowsAsync<RequestRefusedException>(() =>
            StandInBench.RunAsync(database, "CREATE VIRTUAL TABLE area USING rtree(id, low, high)", TimeProvider.System, cancellation)
        );
        await StandInBench.RunAsync(database, "INSERT INTO tag VALUES (7, 'after')", TimeProvider.System, cancellation);
        Assert.Equal("+tag 7", Show(database, Assert.Single(await ReadAsync(database, before))));
    }

    [Fact]
    public async Task Rows_written_after_a_column_was_added_have_it_in_the_log_and_old_rows_have_its_default()
    {
        await using var database = await MakeAsync();
        await StandInBench.RunAsync(database, "ALTER TABLE tag ADD COLUMN colour TEXT DEFAULT 'red'", TimeProvider.System, cancellation);
        var before = database.Head;
        await StandInBench.RunAsync(database, "UPDATE tag SET colour = 'blue' WHERE id = 1", TimeProvider.System, cancellation);
        var change = Assert.Single(await ReadAsync(database, before));
        Assert.Equal("red", change.Before.TextAt(2));
        Assert.Equal("blue", change.After.TextAt(2));
    }

    [Fact]
    public async Task A_statement_that_fails_changes_and_logs_nothing()
    {
        await using var database = await MakeAsync();
        var before = database.Head;
        var refused = await Assert.ThrowsAsync<RequestRefusedException>(() =>
            StandInBench.RunAsync(
                database,
                "INSERT INTO tag VALUES (50, 'a'); INSERT INTO tag VALUES (50, 'b')",
                TimeProvider.System,
                cancellation
            )
        );
        Assert.Contains("UNIQUE constraint failed", refused.Message, StringComparison.Ordinal);
        Assert.Equal(before, database.Head);
        Assert.Equal(0, Scalar("SELECT count(*) FROM tag WHERE id = 50"));
    }

    [Theory]
    [InlineData("COMMIT")]
    [InlineData("ROLLBACK")]
    [InlineData("SAVEPOINT s")]
    [InlineData("ATTACH 'x.db' AS x")]
    [InlineData("PRAGMA foreign_keys = OFF")]
    [InlineData("DELETE FROM vestige_log")]
    [InlineData("DROP TABLE vestige_meta")]
    [InlineData("CREATE TABLE vestige_mine (id INTEGER PRIMARY KEY)")]
    [InlineData("SELECT * FROM nowhere")]
    [InlineData("this is not SQL")]
    [InlineData("")]
    public async Task The_bench_refuses_what_would_go_round_the_log(string statement)
    {
        await using var database = await MakeAsync();
        var before = database.Head;
        await Assert.ThrowsAsync<RequestRefusedException>(() =>
            StandInBench.RunAsync(database, statement, TimeProvider.System, cancellation)
        );
        Assert.Equal(before, database.Head);
        await StandInBench.RunAsync(database, "INSERT INTO tag VALUES (77, 'after')", TimeProvider.System, cancellation);
        Assert.True(database.Head > before);
    }

    /// <summary>A connection that is changed or deleted closes its database under those who wait for it.</summary>
    [Fact]
    public async Task Who_waits_at_the_door_of_a_database_that_is_closed_is_told()
    {
        var database = await MakeAsync();
        var inside = await database.BeginAsync(cancellation: cancellation);
        var before = database.BeginAsync(cancellation: cancellation);
        var closing = database.DisposeAsync().AsTask();
        var behind = database.BeginAsync(cancellation: cancellation);
        await Assert.ThrowsAsync<PortException>(() => before.WaitAsync(TimeSpan.FromSeconds(30), cancellation));
        await Assert.ThrowsAsync<PortException>(() => behind.WaitAsync(TimeSpan.FromSeconds(30), cancellation));
        Assert.False(closing.IsCompleted);
        inside.Commit();
        inside.Dispose();
        await closing;
        await Assert.ThrowsAsync<PortException>(() => database.BeginAsync(cancellation: cancellation));
        await database.DisposeAsync();
    }

    [Fact]
    public async Task Replaying_the_log_gives_the_rows_that_SQLite_holds()
    {
        await using var database = await MakeAsync();
        var start = database.Head;
        var mirror = Mirror();
        var statements = Gen.OneOf(
            Gen.Select(Gen.Int[1, 30], Gen.Int[1, 4])
                .Select((id, parent) => $"INSERT OR REPLACE INTO child VALUES ({id}, {parent}, 'n{id}')"),
            Gen.Select(Gen.Int[1, 30], Gen.Int[1, 30]).Select((from, to) => $"UPDATE OR REPLACE child SET id = {to} WHERE id = {from}"),
            Gen.Int[1, 4].Select(id => $"DELETE FROM parent WHERE id = {id}"),
            Gen.Int[1, 4].Select(id => $"INSERT OR IGNORE INTO parent VALUES ({id})"),
            Gen.Int[1, 4].Select(id => $"UPDATE OR IGNORE parent SET id = id % 4 + 1 WHERE id = {id}"),
            Gen.Const("DELETE FROM child")
        );
        var generated = new List<string>();
        statements.Array[40].Sample(generated.AddRange, iter: 5, threads: 1);
        foreach (var statement in generated)
        {
            try
            {
                await StandInBench.RunAsync(database, statement, TimeProvider.System, cancellation);
            }
            catch (RequestRefusedException)
            {
                // A reference that would break; nothing was changed.
            }
        }

        foreach (var change in await ReadAsync(database, start))
        {
            var table = database.RelationOf(change.Relation)!.Name.Name;
            if (!change.Before.IsNone)
            {
                Assert.True(mirror.Remove((table, change.Before.IntegerAt(0)), out var known));
                Assert.Equal(known, change.Before);
            }

            if (!change.After.IsNone)
            {
                mirror.Add((table, change.After.IntegerAt(0)), change.After);
            }
        }

        Assert.Equal(Mirror().OrderBy(pair => pair.Key), mirror.OrderBy(pair => pair.Key));
    }

    [Fact]
    public async Task A_transaction_of_many_rows_is_read_back_in_parts_in_order()
    {
        await using var database = await MakeAsync();
        var before = database.Head;
        const int Rows = 120_000;
        await StandInBench.RunAsync(
            database,
            $"WITH RECURSIVE n (i) AS (SELECT 1000 UNION ALL SELECT i + 1 FROM n WHERE i < {999 + Rows}) INSERT INTO tag SELECT i, 'a "
                + "tag with some length to it, number ' || i FROM n",
            TimeProvider.System,
            cancellation
        );
        var fragments = await ReadFragmentsAsync(database, before);
        Assert.True(fragments.Count > 5);
        Assert.True(fragments[0].First && fragments[^1].Last);
        Assert.Equal(1, fragments.Count(fragment => fragment.First));
        Assert.Equal(1, fragments.Count(fragment => fragment.Last));
        Assert.Single(fragments.Select(fragment => fragment.Position).Distinct());
        var changes = fragments.SelectMany(fragment => Changes(fragment.Changes)).ToList();
        Assert.Equal(Rows, changes.Count);
        Assert.Equal(Enumerable.Range(1000, Rows).Select(i => (long)i), changes.Select(change => change.After.IntegerAt(0)));
    }

    [Fact]
    public async Task The_log_is_dropped_at_its_limit_and_a_reader_that_stands_before_it_is_told()
    {
        await using var database = await MakeAsync(new StandInOptions(LogLimit: 200_000, LogSpan: 50_000));
        var source = new StandInSource(database, TimeProvider.System);
        var tables = new HashSet<TableName> { new("db", "tag") };
        await using var reader = await source.OpenLogAsync(LogRequest.First(database.Head, tables), cancellation);
        for (var i = 0; i < 60; i++)
        {
            await StandInBench.RunAsync(
                database,
                $"INSERT INTO tag VALUES ({1000 + i}, '{i}{new string('x', 5000)}')",
                TimeProvider.System,
                cancellation
            );
        }

        Assert.InRange(database.LogBytes, 1, 200_000);
        await Assert.ThrowsAsync<PlaceLostException>(async () => await reader.ReadAsync(TimeSpan.Zero, cancellation));
    }

    [Fact]
    public async Task The_log_is_there_after_the_database_was_opened_again()
    {
        LogPosition head;
        LogIdentity identity;
        await using (var database = await MakeAsync())
        {
            await StandInBench.RunAsync(database, "INSERT INTO tag VALUES (60, 'kept')", TimeProvider.System, cancellation);
            (head, identity) = (database.Head, database.Identity);
        }

        await using var again = StandInDatabase.Open(folder.File("db.db"), "db", new StandInOptions(), TimeProvider.System);
        Assert.Equal((head, identity), (again.Head, again.Identity));
        Assert.Contains(await ReadAsync(again, LogPosition.Zero), change =>
            change.Kind == ChangeKind.Insert && change.After.IntegerAt(0) == 60
        );
    }

    private async Task<StandInDatabase> MakeAsync(StandInOptions? options = null)
    {
        var database = StandInDatabase.Open(folder.File("db.db"), "db", options ?? new StandInOptions(), TimeProvider.System);
        using var transaction = await database.BeginAsync(cancellation: cancellation);
        transaction.Run("CREATE TABLE parent (id INTEGER PRIMARY KEY)");
        transaction.Run(
            "CREATE TABLE child (id INTEGER PRIMARY KEY, parent_id INTEGER REFERENCES parent (id) ON DELETE CASCADE ON UPDATE "
                + "CASCADE, name TEXT)"
        );
        transaction.Run("CREATE TABLE tag (id INTEGER PRIMARY KEY, name TEXT UNIQUE)");
        transaction.Run("CREATE TABLE pair (a INTEGER, b INTEGER, PRIMARY KEY (a, b)) WITHOUT ROWID");
        transaction.Run("CREATE TABLE noted (id INTEGER PRIMARY KEY)");
        transaction.Run("CREATE TRIGGER note AFTER INSERT ON noted BEGIN INSERT INTO tag VALUES (NEW.id + 99, 'noted'); END");
        transaction.Run("INSERT INTO parent VALUES (1), (2)");
        transaction.Run("INSERT INTO child VALUES (1, 1, 'a'), (2, 1, 'b'), (3, 2, 'c')");
        transaction.Run("INSERT INTO tag VALUES (1, 'one'), (2, 'second')");
        transaction.Run("INSERT INTO pair VALUES (1, 2)");
        transaction.Commit();
        return database;
    }

    private async Task<List<RowChange>> ReadAsync(StandInDatabase database, LogPosition after) =>
        [.. (await ReadFragmentsAsync(database, after)).SelectMany(fragment => Changes(fragment.Changes))];

    private async Task<List<Engine.Ports.LogFragment>> ReadFragmentsAsync(StandInDatabase database, LogPosition after)
    {
        var source = new StandInSource(database, TimeProvider.System);
        var tables = new[] { "parent", "child", "tag", "pair", "noted", "fresh" }.Select(name => new TableName("db", name)).ToHashSet();
        await using var reader = await source.OpenLogAsync(LogRequest.First(after, tables), cancellation);
        var fragments = new List<Engine.Ports.LogFragment>();
        while (true)
        {
            var read = await reader.ReadAsync(TimeSpan.Zero, cancellation);
            fragments.AddRange(read.Fragments);
            if (read.AtHead)
            {
                return fragments;
            }
        }
    }

    private static List<RowChange> Changes(ReadOnlyMemory<byte> bytes)
    {
        var reader = new ChangeReader(bytes);
        var changes = new List<RowChange>();
        while (reader.TryRead(out var change))
        {
            changes.Add(change);
        }

        return changes;
    }

    private static string Show(StandInDatabase database, RowChange change)
    {
        var table = database.RelationOf(change.Relation)!;
        var mark = change.Kind switch
        {
            ChangeKind.Insert => "+",
            ChangeKind.Update => "~",
            _ => "-",
        };
        return $"{mark}{table.Name.Name} {RowKey.Display(change.After.IsNone ? change.Before : change.After, table.KeyOrdinals)}";
    }

    private Dictionary<(string Table, long Id), Row> Mirror()
    {
        var mirror = new Dictionary<(string, long), Row>();
        using var connection = new SqliteConnection($"Data Source={folder.File("db.db")};Pooling=False");
        connection.Open();
        foreach (var table in new[] { "parent", "child" })
        {
            using var command = connection.CreateCommand();
            command.CommandText = $"SELECT * FROM {table}";
            using var reader = command.ExecuteReader();
            while (reader.Read())
            {
                var writer = new RowWriter();
                writer.Begin(reader.FieldCount);
                for (var i = 0; i < reader.FieldCount; i++)
                {
                    switch (reader.GetValue(i))
                    {
                        case long number:
                            writer.Integer(number);
                            break;
                        case string text:
                            writer.Text(text);
                            break;
                        default:
                            writer.Null();
                            break;
                    }
                }

                mirror.Add((table, reader.GetInt64(0)), writer.ToRow());
            }
        }

        return mirror;
    }

    private long Scalar(string sql)
    {
        using var connection = new SqliteConnection($"Data Source={folder.File("db.db")};Pooling=False");
        connection.Open();
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        return (long)command.ExecuteScalar()!;
    }
}
