using System.Globalization;
using Npgsql.Replication;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Engine.Faults;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>Changes from a place in the past, into tables that the server's own dump program has loaded.</summary>
public sealed class PastStartTests(TwoServers servers)
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;
    private int written;

    /// <summary>The server says of which position its exported snapshot is; the dump is taken from that, while rows are written.</summary>
    [Fact]
    public async Task A_dump_of_an_exported_snapshot_is_gone_on_with_from_its_position()
    {
        var (a, b) = await OneAsync();
        await using var crossing = await Crossing.DefineAsync(a, b, Definition());
        await crossing.Engine.KeepLogAsync(Crossing.Name, "test", cancellation);

        // The process ends and begins again meanwhile: what is kept stays so.
        await crossing.EndAsync();
        await crossing.BeginAsync();
        using var ending = new CancellationTokenSource();
        var writing = WriteAsync(a, ending.Token);
        await WrittenAsync(10);
        var position = await DumpAsync(a, b);
        await WrittenAsync(Volatile.Read(ref written) + 10);
        await ending.CancelAsync();
        await writing;
        await crossing.UntilAsync(() => crossing.Status.Capture is { PassedHead: true }, "the log read");
        await crossing.Engine.DefineAsync(Definition(new StartPlace(position)), "test", cancellation);
        var plan = await crossing.Engine.PlanAsync(Definition(new StartPlace(position)), cancellation);
        Assert.All(plan.Checks, line => Assert.True(line.Ok, $"{line.Step}: {line.Found}"));
        Assert.Contains(plan.Checks, line =>
            line.Step == "rows of public.one" && line.Found.Contains("by the log where changes begin", StringComparison.Ordinal)
        );
        await crossing.Engine.RunAsync(Crossing.Name, "test", cancellation);
        await crossing.FollowsAsync();
        await crossing.SameAsync("one");
        Assert.Equal(0, crossing.Status.Tables.Sum(table => table.Tally.Unexpected.Total));
    }

    [Fact]
    public async Task A_time_means_after_what_was_committed_by_then()
    {
        var (a, b) = await OneAsync();
        await using var crossing = await Crossing.DefineAsync(a, b, Definition());
        await crossing.Engine.KeepLogAsync(Crossing.Name, "test", cancellation);
        await a.RunAsync("INSERT INTO one SELECT i, 'before' FROM generate_series(100, 120) i");
        var time = DateTimeOffset.Parse(
            await a.AskAsync("SELECT to_char(clock_timestamp() AT TIME ZONE 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS.US\"Z\"')"),
            CultureInfo.InvariantCulture
        );
        await DumpAsync(a, b);
        await a.RunAsync(
            "INSERT INTO one SELECT i, 'after' FROM generate_series(200, 230) i; DELETE FROM one WHERE id < 5; UPDATE one SET v = "
                + "'other' WHERE id = 110"
        );
        var definition = Definition(new StartPlace(Time: time));
        await crossing.Engine.DefineAsync(definition, "test", cancellation);
        await crossing.UntilAsync(() => crossing.Engine.PlanAsync(definition, cancellation).GetAwaiter().GetResult().Ready, "the place");
        await crossing.Engine.RunAsync(Crossing.Name, "test", cancellation);
        await crossing.FollowsAsync();
        await crossing.SameAsync("one");
        Assert.Equal(0, crossing.Status.Tables.Sum(table => table.Tally.Unexpected.Total));
    }

    [Fact]
    public async Task What_the_spool_does_not_hold_is_refused_with_what_can_be_done()
    {
        var (a, b) = await OneAsync();
        await using var crossing = await Crossing.DefineAsync(a, b, Definition(new StartPlace("0/1")));
        await DumpAsync(a, b);
        Assert.Contains("is not kept", await RefusedAsync(new StartPlace("0/1")), StringComparison.Ordinal);
        var after = await crossing.Engine.KeepLogAsync(Crossing.Name, "test", cancellation);
        Assert.Equal(CrossingState.Draft, crossing.Status.State);
        Assert.Equal(after, crossing.Status.KeptAfter);
        Assert.Contains("lies before", await RefusedAsync(new StartPlace("0/1")), StringComparison.Ordinal);
        Assert.Contains("lies after", await RefusedAsync(new StartPlace("FFFF/0")), StringComparison.Ordinal);
        Assert.Contains("not a position", await RefusedAsync(new StartPlace("yesterday")), StringComparison.Ordinal);
        Assert.Contains(
            "still to come",
            await RefusedAsync(new StartPlace(Time: DateTimeOffset.UtcNow.AddDays(1))),
            StringComparison.Ordinal
        );
        await a.RunAsync("INSERT INTO one VALUES (50, 'x')");
        await crossing.UntilAsync(
            () =>
                RefusedAsync(new StartPlace(Time: DateTimeOffset.UtcNow.AddDays(-1)))
                    .GetAwaiter()
                    .GetResult()
                    .Contains("was committed at", StringComparison.Ordinal),
            "the first transaction"
        );

        // The dump is of before that row: counted by the log, once it has it, it is not a row that is missing.
        var good = Definition(new StartPlace(Lsn.Format(after)));
        await crossing.UntilAsync(() => crossing.Engine.PlanAsync(good, cancellation).GetAwaiter().GetResult().Ready, "the row");
        await b.RunAsync("DELETE FROM one WHERE id = 1");
        Assert.Equal(
            "rows of public.one",
            Assert.Single((await crossing.Engine.PlanAsync(good, cancellation)).Checks, line => !line.Ok).Step
        );
        await crossing.Engine.RemoveAsync(Crossing.Name, "test", cancellation);
        await crossing.UntilAsync(
            () =>
                a.AskAsync($"SELECT count(*) FROM pg_replication_slots WHERE slot_name = '{a.Names.Slot}'").GetAwaiter().GetResult() == "0",
            "no slot"
        );

        async Task<string> RefusedAsync(StartPlace from) =>
            Assert.Single((await crossing.Engine.PlanAsync(Definition(from), cancellation)).Checks, line => !line.Ok).Found;
    }

    /// <summary>A change made before the table was read, in a transaction that is committed after, would be passed over.</summary>
    [Fact]
    public async Task The_log_is_kept_whole_only_after_every_transaction_that_was_open()
    {
        var (a, b) = await OneAsync();
        await using var crossing = await Crossing.DefineAsync(a, b, Definition());
        await using var open = await a.OpenAsync();
        await using (var command = new Npgsql.NpgsqlCommand("BEGIN; INSERT INTO one VALUES (60, 'early')", open))
        {
            await command.ExecuteNonQueryAsync(cancellation);
        }

        var keeping = crossing.Engine.KeepLogAsync(Crossing.Name, "test", cancellation);
        await Task.WhenAny(keeping, Task.Delay(1500, cancellation));
        Assert.False(keeping.IsCompleted);
        Assert.Null(crossing.Status.KeptAfter);
        await using (var command = new Npgsql.NpgsqlCommand("COMMIT; SELECT pg_current_wal_insert_lsn()::text", open))
        {
            var committed = (string)(await command.ExecuteScalarAsync(cancellation))!;
            Assert.True(await keeping >= Lsn.Parse(committed));
        }
    }

    /// <summary>
    /// Dumps the table as of an exported snapshot with the server's own program, and returns the position that belongs to it.
    /// </summary>
    private async Task<string> DumpAsync(Database a, Database b)
    {
        await using var connection = new LogicalReplicationConnection(
            $"Host=127.0.0.1;Port={a.Cluster.Port};Database={a.Name};Username={Cluster.Dba};Password={Cluster.Password}"
        );
        await connection.Open(cancellation);
        var slot = await connection.CreatePgOutputReplicationSlot(
            "dumping_" + a.Name,
            temporarySlot: true,
            slotSnapshotInitMode: LogicalSlotSnapshotInitMode.Export,
            cancellationToken: cancellation
        );
        var dump = await a.Cluster.ProgramAsync(
            "pg_dump",
            "--inserts",
            "--no-owner",
            $"--snapshot={slot.SnapshotName}",
            "-t",
            "public.one",
            a.Name
        );
        await b.RunAsync(string.Join('\n', dump.Split('\n').Where(line => !line.StartsWith('\\'))));
        return slot.ConsistentPoint.ToString();
    }

    private async Task WriteAsync(Database a, CancellationToken ending)
    {
        for (var i = 1000; !ending.IsCancellationRequested; i++)
        {
            await a.RunAsync(
                $"INSERT INTO one VALUES ({i}, 'n'); UPDATE one SET v = v || '!' WHERE id = {(i % 20) + 1}; DELETE FROM one WHERE id "
                    + $"= {i - 3}"
            );
            Interlocked.Increment(ref written);
        }
    }

    /// <summary>Waits until so many transactions were written.</summary>
    private async Task WrittenAsync(int transactions)
    {
        while (Volatile.Read(ref written) < transactions)
        {
            await Task.Delay(10, cancellation);
        }
    }

    private async Task<(Database From, Database To)> OneAsync()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync("CREATE TABLE one (id int PRIMARY KEY, v text); INSERT INTO one SELECT i, 'v' || i FROM generate_series(1, 20) i");
        return (a, b);
    }

    private static CrossingDefinition Definition(StartPlace? from = null) =>
        new(
            Crossing.Name,
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules([new TableRule(Take: "public.one")]),
            new StartOptions(Kind: StartKind.Changes, From: from)
        );
}
