using Vestige.Core.Crossings;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Reconciling;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>Comparing both sides of a crossing while both are written, and repairing what differs.</summary>
public sealed class ReconcileTests : IAsyncDisposable
{
    private const string Name = "copy";
    private readonly TwoStandIns systems = new();
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    public ValueTask DisposeAsync() => systems.DisposeAsync();

    [Fact]
    public async Task Every_kind_of_difference_is_found_and_nothing_else()
    {
        await FollowAsync(
            "CREATE TABLE t (id INTEGER PRIMARY KEY, x REAL, v TEXT, b BLOB);"
                + "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 40000) INSERT INTO t SELECT i, i * 1.5, "
                + "'value ' || i, x'00ff' FROM n"
        );
        Assert.True((await CompareAsync()).IsEqual);
        var planted = new (string Statement, DifferenceKind Kind, string Key, string? Column)[]
        {
            ("UPDATE t SET x = 150.00000000000003 WHERE id = 100", DifferenceKind.Differing, "100", "x"),
            ("UPDATE t SET x = -0.0 WHERE id = 101", DifferenceKind.Differing, "101", "x"),
            ("UPDATE t SET v = 'value 102 ' WHERE id = 102", DifferenceKind.Differing, "102", "v"),
            ("UPDATE t SET v = NULL WHERE id = 103", DifferenceKind.Differing, "103", "v"),
            ("UPDATE t SET v = '' WHERE id = 104", DifferenceKind.Differing, "104", "v"),
            ("UPDATE t SET b = x'00fe' WHERE id = 105", DifferenceKind.Differing, "105", "b"),
            ("UPDATE t SET b = '00ff' WHERE id = 106", DifferenceKind.Differing, "106", "b"),
            ("DELETE FROM t WHERE id = 9999", DifferenceKind.Missing, "9999", null),
            ("INSERT INTO t VALUES (40001, 1, 'extra', NULL)", DifferenceKind.Extra, "40001", null),
            ("UPDATE t SET id = 50000 WHERE id = 15000", DifferenceKind.Extra, "50000", null),
        };
        foreach (var (statement, _, _, _) in planted)
        {
            await systems.RunAsync(systems.B, statement);
        }

        var found = (await CompareAsync()).Tables.Single();
        Assert.Equal((2, 2, 7), (found.Missing, found.Extra, found.Differing));
        Assert.Equal(40000 - 9, found.Same);
        Assert.Equal((40000, 40000), (found.SourceRows, found.TargetRows));
        foreach (var (_, kind, key, column) in planted)
        {
            var row = Assert.Single(found.Rows, row => IntegerKeys.Display(row.Key) == key);
            Assert.Equal(kind, row.Kind);
            Assert.Equal(column is null ? [] : [column], row.Columns);
        }

        Assert.Contains(found.Rows, row => row.Kind == DifferenceKind.Missing && IntegerKeys.Display(row.Key) == "15000");
        Assert.Equal(found.SourceRows, found.Segments.Sum(segment => segment.Rows));
        Assert.True(found.Segments.Count(segment => segment.State == SegmentState.Differing) < found.Segments.Count);
    }

    [Fact]
    public async Task Under_load_nothing_in_flight_is_taken_for_a_difference_and_a_damaged_row_is_found_each_time()
    {
        await FollowAsync(
            "CREATE TABLE t (id INTEGER PRIMARY KEY, n INTEGER NOT NULL);"
                + "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 6000) INSERT INTO t SELECT i, 0 FROM n"
        );
        using var ending = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        var writing = WriteAsync(ending.Token);
        long inFlight = 0;
        for (var i = 0; i < 40; i++)
        {
            var found = (await CompareAsync()).Tables.Single();
            Assert.True(found.IsEqual, Shown(found));
            inFlight += found.InFlight;
        }

        Assert.True(inFlight > 0, "Nothing was in flight, so nothing was tried.");
        await systems.RunAsync(systems.B, "UPDATE t SET n = n - 1 WHERE id = 5500");
        for (var i = 0; i < 10; i++)
        {
            var row = Assert.Single((await CompareAsync()).Tables.Single().Rows);
            Assert.Equal(("5500", DifferenceKind.Differing), (IntegerKeys.Display(row.Key), row.Kind));
            Assert.Contains("written on the target by something else", row.Cause, StringComparison.Ordinal);
        }

        await ending.CancelAsync();
        await writing;
    }

    [Fact]
    public async Task What_is_compared_is_what_the_treatment_makes()
    {
        await FollowAsync(
            "CREATE TABLE t (id TEXT PRIMARY KEY, branch INTEGER, name TEXT);"
                + "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 9000) INSERT INTO t SELECT 'k' || i, i % "
                + "3, 'patron ' || i FROM n",
            new TreatmentStep("a.t")
            {
                Keep = "branch < 2",
                Mask = [new MaskedColumn("name", MaskMethod.Hash)],
                Rename = [new RenamedColumn("branch", "place")],
            }
        );
        var whole = (await CompareAsync()).Tables.Single();
        Assert.True(whole.IsEqual, Shown(whole));
        Assert.Equal((6000, 6000, true), (whole.SourceRows, whole.TargetRows, whole.ByHash));
        await systems.RunAsync(
            systems.B,
            "UPDATE t SET name = 'shown' WHERE id = 'k6'; DELETE FROM t WHERE id = 'k7'; INSERT INTO t SELECT 'k8', 2, 'left out'"
        );
        var found = (await CompareAsync()).Tables.Single();
        Assert.Equal((1, 1, 1), (found.Missing, found.Extra, found.Differing));
        Assert.Equal(["name"], found.Rows.Single(row => row.Kind == DifferenceKind.Differing).Columns);
        Assert.Equal(["name"], found.Masked);
    }

    [Fact]
    public async Task At_rest_later_changes_are_no_differences_and_those_that_cannot_be_told_are_said()
    {
        await FollowAsync(
            "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t VALUES (1, 'one'), (2, 'two'), (3, 'three'), (4, 'four')"
        );
        await RestAsync();
        await systems.RunAsync(
            systems.A,
            "UPDATE t SET v = 'later' WHERE id = 2; INSERT INTO t VALUES (5, 'five'); DELETE FROM t WHERE id = 3"
        );
        var found = (await CompareAsync()).Tables.Single();
        Assert.True(found.IsEqual, Shown(found));
        Assert.Equal(3, found.InFlight);
        await systems.RunAsync(systems.B, "UPDATE t SET v = 'damaged' WHERE id = 3");
        found = (await CompareAsync()).Tables.Single();
        Assert.Equal("3", IntegerKeys.Display(Assert.Single(found.Rows).Key));
    }

    [Fact]
    public async Task After_a_proof_only_changed_rows_are_compared()
    {
        await FollowAsync(
            "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i "
                + "< 5000) INSERT INTO t SELECT i, 'value' FROM n"
        );
        var unproved = (await CompareAsync(ComparisonScope.All with { Changed = true })).Tables.Single();
        Assert.Contains("never proved", unproved.Reason, StringComparison.Ordinal);
        Assert.True((await CompareAsync()).IsEqual);
        var first = systems.Engine.Status(Name)!.Proved!.Position;
        await systems.RunAsync(
            systems.A,
            "UPDATE t SET v = 'new' WHERE id = 7; DELETE FROM t WHERE id = 8; INSERT INTO t VALUES (9000, 'made')"
        );
        await SettledAsync();
        var changed = (await CompareAsync(ComparisonScope.All with { Changed = true })).Tables.Single();
        Assert.True(changed.IsEqual, Shown(changed));
        Assert.Equal(2, changed.SourceRows);
        Assert.True(systems.Engine.Status(Name)!.Proved!.Position > first);
        await systems.RunAsync(systems.A, "UPDATE t SET v = 'newer' WHERE id = 7; DELETE FROM t WHERE id = 9");
        await SettledAsync();
        await systems.RunAsync(systems.B, "UPDATE t SET v = 'damaged' WHERE id = 7; INSERT INTO t VALUES (9, 'back')");
        changed = (await CompareAsync(ComparisonScope.All with { Changed = true })).Tables.Single();
        Assert.Equal((0, 1, 1), (changed.Missing, changed.Extra, changed.Differing));

        // What is known to differ is not proved by rows that changed since.
        Assert.Null(systems.Engine.Status(Name)!.Proved);
        changed = (await CompareAsync(ComparisonScope.All with { Changed = true })).Tables.Single();
        Assert.Contains("never proved", changed.Reason, StringComparison.Ordinal);
        Assert.Equal(2, systems.Engine.Status(Name)!.Differences);
    }

    [Fact]
    public async Task A_range_and_a_sample_say_only_what_they_saw()
    {
        await FollowAsync(
            "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i "
                + "< 5000) INSERT INTO t SELECT i, 'value' FROM n"
        );
        await systems.RunAsync(systems.B, "UPDATE t SET v = 'damaged' WHERE id = 1000");
        var table = new TableName("a", "t");
        Assert.Equal(100, (await CompareAsync(new ComparisonScope([table], From: "2000", Before: "2100"))).Tables.Single().Same);
        Assert.Equal(1, (await CompareAsync(new ComparisonScope([table], From: "900", Before: "1001"))).Tables.Single().Differing);
        Assert.Null(systems.Engine.Status(Name)!.Proved);
        var all = (await CompareAsync(new ComparisonScope([table], Sample: 5000))).Tables.Single();
        Assert.Equal((4999, 1), (all.Same, all.Differing));
        Assert.Equal(200, (await CompareAsync(new ComparisonScope([table], Sample: 200))).Tables.Single().SourceRows);
        await Assert.ThrowsAsync<RequestRefusedException>(() =>
            systems.Engine.Reconcile.StartAsync(Name, new ComparisonScope([], From: "1"), "test", cancellation)
        );
        await Assert.ThrowsAsync<RequestRefusedException>(() =>
            systems.Engine.Reconcile.StartAsync(Name, new ComparisonScope([new TableName("c", "u")]), "test", cancellation)
        );
    }

    /// <summary>What changed between both sides outside of a range is nothing to the rows in it.</summary>
    [Fact]
    public async Task In_a_range_only_its_own_rows_in_flight_count()
    {
        await FollowAsync(
            "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i "
                + "< 5000) INSERT INTO t SELECT i, 'value' FROM n"
        );
        await RestAsync();
        await systems.RunAsync(
            systems.A,
            "UPDATE t SET v = 'later' WHERE id IN (5, 2050, 4990); DELETE FROM t WHERE id IN (6, 2051); INSERT INTO t VALUES (9000, 'made')"
        );
        var found = (await CompareAsync(new ComparisonScope([new TableName("a", "t")], From: "2000", Before: "2100"))).Tables.Single();
        Assert.True(found.IsEqual, Shown(found));
        Assert.Equal((100, 100, 100, 2), (found.SourceRows, found.TargetRows, found.Same, found.InFlight));
    }

    [Fact]
    public async Task Rows_are_repaired_kept_and_put_back_and_extra_ones_stay_until_that_is_asked()
    {
        await FollowAsync("CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t VALUES (1, 'one'), (2, 'two'), (3, 'three')");
        await systems.RunAsync(
            systems.B,
            "UPDATE t SET v = 'damaged' WHERE id = 1; DELETE FROM t WHERE id = 2; INSERT INTO t VALUES (4, 'extra')"
        );
        var found = await CompareAsync();
        var repair = await systems.Engine.Reconcile.Repairs.RepairAsync(Name, found, null, delete: false, "test", cancellation);
        Assert.Equal(2, repair.Changed);
        Assert.Equal(["1 one", "2 two", "3 three", "4 extra"], systems.Rows("b.db", "SELECT id || ' ' || v FROM t ORDER BY id"));
        Assert.Equal("damaged", repair.Rows.Single(row => IntegerKeys.Display(row.Key) == "1").Before.TextAt(1));
        await systems.RunAsync(systems.A, "UPDATE t SET v = 'newer' WHERE id = 1");
        await SettledAsync();
        var undone = await systems.Engine.Reconcile.Repairs.UndoAsync(Name, repair.Id, "test", cancellation);
        Assert.Contains("changed since", undone.Rows.Single(row => IntegerKeys.Display(row.Key) == "1").Note, StringComparison.Ordinal);
        Assert.Equal(["1 newer", "3 three", "4 extra"], systems.Rows("b.db", "SELECT id || ' ' || v FROM t ORDER BY id"));
        await Assert.ThrowsAsync<RequestRefusedException>(() =>
            systems.Engine.Reconcile.Repairs.UndoAsync(Name, repair.Id, "test", cancellation)
        );
        var missing = (await CompareAsync()).Tables.Single().Rows.Single(row => row.Kind == DifferenceKind.Missing);
        Assert.StartsWith(
            "deleted again, after a repair had written it, when test undid that",
            missing.Cause,
            StringComparison.Ordinal
        );
        Assert.Equal(
            ["written, as it was missing", "deleted again, after a repair had written it"],
            (await systems.Engine.Reconcile.Repairs.OfRowAsync(Name, new TableName("a", "t"), ["2"], cancellation)).Select(one => one.Words)
        );
        Assert.Single(await systems.Engine.Reconcile.Repairs.OfRowAsync(Name, new TableName("a", "t"), ["1"], cancellation));
        Assert.Empty(await systems.Engine.Reconcile.Repairs.OfRowAsync(Name, new TableName("a", "t"), ["4"], cancellation));
        await systems.Engine.Reconcile.Repairs.RepairAsync(Name, await CompareAsync(), null, delete: true, "test", cancellation);
        Assert.True((await CompareAsync()).IsEqual);
        Assert.Equal(["1 newer", "2 two", "3 three"], systems.Rows("b.db", "SELECT id || ' ' || v FROM t ORDER BY id"));
    }

    /// <summary>The source's numbers only grow: a repair that wrote an older row would leave a smaller one.</summary>
    [Fact]
    public async Task A_repair_that_races_with_new_changes_never_leaves_an_older_row()
    {
        await FollowAsync(
            "CREATE TABLE t (id INTEGER PRIMARY KEY, n INTEGER NOT NULL);"
                + "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 50) INSERT INTO t SELECT i, 0 FROM n"
        );
        using var ending = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        var writing = WriteAsync(ending.Token);
        var keys = Enumerable.Range(1, 50).ToList();
        for (var i = 0; i < 25; i++)
        {
            await systems.RunAsync(systems.B, $"UPDATE t SET n = -1 WHERE id % 7 = {i % 7}");
            var found = await CompareAsync();
            if (found.Differences > 0)
            {
                await systems.Engine.Reconcile.Repairs.RepairAsync(Name, found, null, delete: false, "test", cancellation);
            }
        }

        await ending.CancelAsync();
        await writing;
        await SettledAsync();
        var (here, there) = (
            systems.Rows("a.db", "SELECT id || ' ' || n FROM t ORDER BY id"),
            systems.Rows("b.db", "SELECT id || ' ' || n FROM t WHERE n >= 0 ORDER BY id")
        );
        Assert.Empty(there.Except(here));
    }

    [Fact]
    public async Task By_a_rule_every_table_is_compared_all_the_time_and_what_differs_is_told()
    {
        await FollowAsync(
            "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t VALUES (1, 'one'), (2, 'two'); CREATE TABLE u (id INTEGER "
                + "PRIMARY KEY, v TEXT)"
        );
        await systems.Engine.Reconcile.SetRuleAsync(Name, new ReconcileRule(60, 1000), "test", cancellation);
        await systems.WaitAsync(() => systems.Engine.Status(Name)!.Proved is not null, "proofs of both tables");
        Assert.Empty(await systems.Engine.Reconcile.ListAsync(Name, cancellation));
        await Assert.ThrowsAsync<RequestRefusedException>(() =>
            systems.Engine.Reconcile.SetRuleAsync(Name, new ReconcileRule(1, 1000), "test", cancellation)
        );
        await Assert.ThrowsAsync<RequestRefusedException>(() =>
            systems.Engine.Reconcile.SetRuleAsync(Name, new ReconcileRule(Cron: "at noon"), "test", cancellation)
        );
        await systems.Engine.Reconcile.SetRuleAsync(Name, new ReconcileRule(Cron: "* * * * * *"), "test", cancellation);
        await systems.WaitAsync(
            () =>
                systems
                    .Engine.Reconcile.ListAsync(Name, cancellation)
                    .Result.Any(one => one is { By: "the schedule", IsEqual: true, Tables.Count: 2 }),
            "a comparison by the schedule"
        );
    }

    /// <summary>So slowly that the table is compared in parts, and looked at while it is at work.</summary>
    [Fact]
    public async Task Of_a_table_at_work_is_shown_what_was_compared_and_what_was_not_yet()
    {
        await FollowAsync(
            "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i "
                + "< 40000) INSERT INTO t SELECT i, 'value' FROM n"
        );
        await systems.RunAsync(systems.B, "DELETE FROM t WHERE id = 2");
        await systems.Engine.Reconcile.SetRuleAsync(Name, new ReconcileRule(60, 4096), "test", cancellation);
        TableFinding? shown = null;
        await systems.WaitAsync(
            () =>
                systems.Engine.Reconcile.Running(Name) is { } running
                && (shown = systems.Engine.Reconcile.FindAsync(Name, running.Id, cancellation).Result?.Tables.SingleOrDefault())
                    is { Position: not null },
            "the first part"
        );
        Assert.Contains("is being compared", shown!.Reason, StringComparison.Ordinal);
        Assert.False(shown.IsEqual);
        Assert.Equal([SegmentState.Differing, SegmentState.Open], [shown.Segments[0].State, shown.Segments[^1].State]);
        Assert.InRange(shown.SourceRows, 4000, 39_000);
        Assert.Equal(shown.SourceRows, shown.Segments.Where(segment => segment.State != SegmentState.Open).Sum(segment => segment.Rows));
        Assert.Equal("2", IntegerKeys.Display(Assert.Single(shown.Rows).Key));
        Assert.All(shown.Segments.Zip(shown.Segments.Skip(1)), pair => Assert.Equal(pair.First.Before, pair.Second.From));
    }

    [Fact]
    public async Task A_row_left_in_quarantine_is_named_as_the_cause_and_is_decided_there()
    {
        await FollowAsync("CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t VALUES (1, 'one')");
        await systems.Engine.Quarantine.SetRuleAsync(Name, new QuarantineRule(Rows: 5), "test", cancellation);
        await systems.RunAsync(
            systems.B,
            "CREATE TRIGGER short BEFORE INSERT ON t WHEN length(NEW.v) > 3 BEGIN SELECT RAISE(ABORT, 'too long'); END"
        );
        await systems.RunAsync(systems.A, "INSERT INTO t VALUES (2, 'second')");
        await systems.WaitAsync(() => systems.Engine.Quarantine.Waiting(Name)!.Count == 1, "what waits");
        var found = await CompareAsync();
        Assert.Contains(
            "left in quarantine: too long",
            Assert.Single(found.Tables.Single().Rows).Cause,
            StringComparison.OrdinalIgnoreCase
        );
        var repair = await systems.Engine.Reconcile.Repairs.RepairAsync(Name, found, null, delete: false, "test", cancellation);
        Assert.Contains("quarantine", Assert.Single(repair.Rows).Note, StringComparison.Ordinal);
    }

    /// <summary>Until a later change has written the row, or its table was loaded again.</summary>
    [Fact]
    public async Task What_a_person_decided_in_quarantine_is_named_as_the_cause()
    {
        await FollowAsync("CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t VALUES (1, 'one'), (2, 'two')");
        await systems.Engine.Quarantine.SetRuleAsync(Name, new QuarantineRule(Rows: 5), "test", cancellation);
        foreach (var on in new[] { "INSERT", "UPDATE" })
        {
            await systems.RunAsync(
                systems.B,
                $"CREATE TRIGGER short_{on} BEFORE {on} ON t WHEN length(NEW.v) > 3 BEGIN SELECT RAISE(ABORT, 'too long'); END"
            );
        }

        await systems.RunAsync(
            systems.A,
            "UPDATE t SET v = 'first' WHERE id = 1; UPDATE t SET v = 'second' WHERE id = 2; INSERT INTO t VALUES (3, 'third')"
        );
        await systems.WaitAsync(() => systems.Engine.Quarantine.Waiting(Name)!.Count == 3, "what waits");
        var waiting = systems.Engine.Quarantine.Waiting(Name)!;
        await systems.Engine.Quarantine.DropAsync(Name, [waiting[0].Id, waiting[2].Id], "not wanted", "Ann", cancellation);
        await systems.Engine.Quarantine.EditAsync(
            Name,
            waiting[1].Id,
            new Dictionary<string, string?> { ["v"] = "2nd" },
            "Ben",
            cancellation
        );
        await systems.WaitAsync(() => systems.Engine.Quarantine.Waiting(Name)!.Count == 0, "an empty quarantine");
        var causes = await CausesAsync();
        Assert.Contains("dropped in quarantine by Ann", causes["1"], StringComparison.Ordinal);
        Assert.EndsWith("(not wanted)", causes["3"], StringComparison.Ordinal);
        Assert.StartsWith("edited in quarantine by Ben at", causes["2"], StringComparison.Ordinal);
        Assert.EndsWith("(v)", causes["2"], StringComparison.Ordinal);

        await systems.RunAsync(systems.A, "UPDATE t SET v = 'i' WHERE id = 1");
        await systems.WaitAsync(() => systems.Rows("b.db", "SELECT v FROM t WHERE id = 1") is ["i"], "the next change");
        await systems.RunAsync(systems.B, "UPDATE t SET v = 'x' WHERE id = 1");
        causes = await CausesAsync();
        Assert.Contains("written on the target by something else", causes["1"], StringComparison.Ordinal);
        Assert.Contains("dropped in quarantine by Ann", causes["3"], StringComparison.Ordinal);

        await systems.RunAsync(systems.B, "DROP TRIGGER short_INSERT; DROP TRIGGER short_UPDATE");
        var found = (await systems.Engine.Reconcile.ListAsync(Name, cancellation))[0];
        await systems.Engine.Reconcile.Repairs.RepairAsync(Name, found, null, delete: false, "Cy", cancellation);
        await systems.RunAsync(systems.B, "DELETE FROM t WHERE id = 3");
        Assert.Contains("by a repair of Cy", (await CausesAsync())["3"], StringComparison.Ordinal);
    }

    private async Task<Dictionary<string, string?>> CausesAsync() =>
        (await CompareAsync()).Tables.Single().Rows.ToDictionary(row => IntegerKeys.Display(row.Key), row => row.Cause);

    private async Task FollowAsync(string statements, params TreatmentStep[] steps)
    {
        await systems.RunAsync(systems.A, statements);
        await systems.BeginAsync();
        await systems.Engine.DefineAsync(
            new CrossingDefinition(Name, CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "a.*")]), Treatment: steps),
            "test",
            cancellation
        );
        await systems.Engine.RunAsync(Name, "test", cancellation);
        await systems.WaitAsync(() => systems.Engine.Status(Name)!.State == CrossingState.Following, "following");
    }

    private async Task<Reconciliation> CompareAsync(ComparisonScope? scope = null)
    {
        var id = await systems.Engine.Reconcile.StartAsync(Name, scope ?? ComparisonScope.All, "test", cancellation);
        await systems.WaitAsync(() => systems.Engine.Reconcile.Running(Name) is null, "the comparison");
        var found = (await systems.Engine.Reconcile.FindAsync(Name, id, cancellation))!;
        Assert.True(found.State == ReconciliationState.Done, found.Note);
        return found;
    }

    /// <summary>At rest beyond where the log is known to hold all changes of the table.</summary>
    private async Task RestAsync()
    {
        await systems.RunAsync(systems.A, "UPDATE t SET v = 'before' WHERE id = 1");
        await SettledAsync();
        await systems.Engine.PauseAsync(Name, "test", cancellation);
        await systems.WaitAsync(() => systems.Engine.Status(Name)!.State == CrossingState.Paused, "the pause");
    }

    private Task SettledAsync() => systems.WaitAsync(() => systems.Engine.Status(Name)!.AppliedPosition >= systems.A.Head, "all applied");

    /// <summary>Changes rows all the time, and some keys come and go.</summary>
    private async Task WriteAsync(CancellationToken ending)
    {
        for (var i = 0; !ending.IsCancellationRequested; i++)
        {
            await systems.RunAsync(
                systems.A,
                $"UPDATE t SET n = n + 1 WHERE id IN ({(i * 7 % 50) + 1}, {(i * 3 % 50) + 1}); DELETE FROM t WHERE id = "
                    + $"{(i % 5) + 10}; INSERT INTO t SELECT {(i % 5) + 10}, 1000000 + {i}"
            );
            await Task.Delay(2, CancellationToken.None);
        }
    }

    private static string Shown(TableFinding found) =>
        $"{found.Reason} "
        + string.Join("; ", found.Rows.Select(row => $"{row.Kind} {row.Key.DisplayAt(0)}: {Shown(row.Expected)} / {Shown(row.Found)}"));

    private static string Shown(Core.Changes.Row row) =>
        row.IsNone ? "none" : string.Join(", ", Enumerable.Range(0, row.Count).Select(row.DisplayAt));
}
