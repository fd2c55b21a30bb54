using Vestige.Connectors.StandIn.Drills;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Quarantining;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>Rows that the target refuses wait, and everything else continues.</summary>
public sealed class QuarantineTests : IAsyncLifetime
{
    private const string Name = "copy";
    private readonly TwoStandIns systems = new();
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    public async ValueTask InitializeAsync()
    {
        await systems.RunAsync(
            systems.A,
            "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); CREATE TABLE child (id INTEGER PRIMARY KEY, t INTEGER REFERENCES t "
                + "(id)); INSERT INTO t VALUES (0, 'loaded')"
        );
        await systems.BeginAsync();
    }

    public ValueTask DisposeAsync() => systems.DisposeAsync();

    [Fact]
    public async Task Without_a_rule_it_stops_at_the_first_and_with_one_it_goes_on_from_there()
    {
        await StartAsync(null);
        systems.B.Drills.Refuse(new RefusedRow("t", "2"));
        await systems.RunAsync(systems.A, "INSERT INTO t VALUES (1, 'one'), (2, 'two'), (3, 'three')");
        await systems.WaitAsync(() => State == CrossingState.Faulted, "the fault");
        Assert.Empty(Waiting);
        await systems.Engine.Quarantine.SetRuleAsync(Name, new QuarantineRule(Rows: 5), "test", cancellation);
        await systems.Engine.RunAsync(Name, "test", cancellation);

        // What waits counts once the commit that passed it over is acknowledged, a moment after the rows are there.
        await systems.WaitAsync(() => There() == "0 loaded,1 one,3 three" && Waiting.Count == 1, "the others");
        var change = Assert.Single(Waiting);
        Assert.Equal((WaitingState.Refused, "b.t", 1), (change.State, change.Into.ToString(), change.Tries));
        Assert.Contains("row refused (drill)", change.Answer, StringComparison.Ordinal);
        Assert.Equal(1, systems.Engine.Status(Name)!.Tables.Single(table => table.Source.Name == "t").Quarantined);
    }

    [Fact]
    public async Task Later_changes_of_its_row_wait_behind_it_through_a_restart_and_are_tried_in_their_order()
    {
        await StartAsync(new QuarantineRule(Rows: 5));
        systems.B.Drills.Refuse(new RefusedRow("t", "2"));
        await systems.RunAsync(systems.A, "INSERT INTO t VALUES (2, 'two')");
        await systems.WaitAsync(() => Waiting.Count == 1, "the refusal");
        systems.B.Drills.Allow(new RefusedRow("t", "2"));
        await systems.RunAsync(systems.A, "UPDATE t SET v = 'deux' WHERE id = 2");
        await systems.RunAsync(systems.A, "UPDATE t SET id = 4 WHERE id = 2");
        await systems.RunAsync(systems.A, "UPDATE t SET v = 'four' WHERE id = 4");
        await systems.RunAsync(systems.A, "INSERT INTO t VALUES (2, 'again')");
        await systems.RunAsync(systems.A, "INSERT INTO t VALUES (5, 'five')");
        await systems.WaitAsync(() => There() == "0 loaded,5 five" && Waiting.Count == 5, "five waiting");
        await systems.Engine.DisposeAsync();
        await systems.BeginAsync();
        await systems.WaitAsync(() => State == CrossingState.Following && Waiting.Count == 5, "five waiting after the restart");
        Assert.Equal("0 loaded,5 five", There());
        await systems.Engine.Quarantine.RetryAsync(Name, [Waiting[0].Id], "test", cancellation);
        await systems.WaitAsync(() => Waiting.Count == 0, "an empty quarantine");
        Assert.Equal("0 loaded,2 again,4 four,5 five", There());
        await systems.RunAsync(systems.A, "DELETE FROM t WHERE id = 4");
        await systems.WaitAsync(() => There() == "0 loaded,2 again,5 five", "the deletion");
    }

    [Fact]
    public async Task Dropped_it_never_comes_and_what_waits_behind_it_does()
    {
        await StartAsync(new QuarantineRule(Rows: 5));
        systems.B.Drills.Refuse(new RefusedRow("t", "2"));
        await systems.RunAsync(systems.A, "INSERT INTO t VALUES (2, 'two')");
        await systems.WaitAsync(() => Waiting.Count == 1, "the refusal");
        await systems.RunAsync(systems.A, "DELETE FROM t WHERE id = 2");
        await systems.WaitAsync(() => Waiting.Count == 2, "the deletion behind it");
        await Assert.ThrowsAsync<RequestRefusedException>(() =>
            systems.Engine.Quarantine.DropAsync(Name, [Waiting[0].Id], " ", "test", cancellation)
        );
        await systems.Engine.Quarantine.DropAsync(Name, [Waiting[0].Id], "it is gone again", "test", cancellation);
        await systems.WaitAsync(() => Waiting.Count == 0, "an empty quarantine");
        Assert.Equal("0 loaded", There());
        var decided = Assert.Single((await systems.Engine.Quarantine.DecidedAsync(Name, 9, cancellation))!);
        Assert.Equal(
            (true, "test", "it is gone again", ChangeKind.Insert),
            (decided.Dropped, decided.By, decided.Words, decided.Change.Change.Kind)
        );

        // What is removed leaves nothing behind for another of the same name.
        await systems.Engine.StopAsync(Name, StopMode.Now, "test", cancellation);
        await systems.WaitAsync(() => systems.Engine.Status(Name)!.State == CrossingState.Stopped, "the stop");
        await systems.Engine.RemoveAsync(Name, "test", cancellation);
        await StartAsync(new QuarantineRule(Rows: 5), ExistingRows.Empty);
        Assert.Empty((await systems.Engine.Quarantine.DecidedAsync(Name, 9, cancellation))!);
    }

    [Fact]
    public async Task Edited_the_row_is_taken_and_its_key_cannot_be_edited()
    {
        await systems.RunAsync(systems.B, "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT CHECK (length(v) < 7))");
        await StartAsync(new QuarantineRule(Percent: 1), ExistingRows.Empty);
        await systems.RunAsync(systems.A, "INSERT INTO t VALUES (2, 'too long'), (3, 'short')");
        await systems.WaitAsync(() => There() == "0 loaded,3 short", "the row that fits");
        await systems.WaitAsync(() => Waiting.Count == 1, "the one that does not");
        var id = Waiting[0].Id;
        await Assert.ThrowsAsync<RequestRefusedException>(() =>
            systems.Engine.Quarantine.EditAsync(Name, id, new Dictionary<string, string?> { ["id"] = "9" }, "test", cancellation)
        );
        await Assert.ThrowsAsync<RequestRefusedException>(() =>
            systems.Engine.Quarantine.EditAsync(Name, id, new Dictionary<string, string?> { ["w"] = "9" }, "test", cancellation)
        );
        await systems.Engine.Quarantine.EditAsync(
            Name,
            id,
            new Dictionary<string, string?> { ["v"] = "still too long" },
            "test",
            cancellation
        );
        await systems.WaitAsync(() => Waiting is [{ Tries: 2, State: WaitingState.Refused }], "the second refusal");
        await systems.Engine.Quarantine.EditAsync(Name, id, new Dictionary<string, string?> { ["v"] = "cut" }, "test", cancellation);
        await systems.WaitAsync(() => Waiting.Count == 0, "an empty quarantine");
        Assert.Equal("0 loaded,2 cut,3 short", There());
        var decided = (await systems.Engine.Quarantine.DecidedAsync(Name, 9, cancellation))!;
        Assert.Equal(
            [(false, "v", "still too long"), (false, "v", "too long")],
            decided.Select(one => (one.Dropped, one.Words, one.Change.Change.After.TextAt(1)))
        );
    }

    [Fact]
    public async Task Beyond_the_rule_it_stops_with_nothing_lost()
    {
        await StartAsync(new QuarantineRule(Rows: 2));
        foreach (var key in new[] { "1", "2", "3" })
        {
            systems.B.Drills.Refuse(new RefusedRow("t", key));
        }

        await systems.RunAsync(systems.A, "INSERT INTO t VALUES (1, 'one'), (2, 'two')");
        await systems.WaitAsync(() => Waiting.Count == 2, "two waiting");
        await systems.RunAsync(systems.A, "INSERT INTO t VALUES (3, 'three'), (4, 'four')");
        await systems.WaitAsync(() => State == CrossingState.Faulted, "the fault");
        Assert.Equal(2, Waiting.Count);
        Assert.Contains("up to 2 rows", systems.Engine.Status(Name)!.Fault!.What, StringComparison.Ordinal);
        foreach (var key in new[] { "1", "2", "3" })
        {
            systems.B.Drills.Allow(new RefusedRow("t", key));
        }

        await systems.Engine.Quarantine.RetryAsync(Name, [.. Waiting.Select(change => change.Id)], "test", cancellation);
        await systems.Engine.RunAsync(Name, "test", cancellation);
        await systems.WaitAsync(() => There() == "0 loaded,1 one,2 two,3 three,4 four" && Waiting.Count == 0, "all of it");
        Assert.Empty(Waiting);
    }

    [Fact]
    public async Task A_trigger_that_was_made_on_the_bench_refuses_rows_as_well()
    {
        await StartAsync(new QuarantineRule(Rows: 5));
        await systems.RunAsync(
            systems.B,
            "CREATE TRIGGER odd BEFORE INSERT ON t WHEN NEW.id % 2 = 1 BEGIN SELECT RAISE(ABORT, 'odd keys are not taken'); END"
        );
        await systems.RunAsync(systems.A, "INSERT INTO t VALUES (1, 'one'), (2, 'two'), (3, 'three')");
        await systems.WaitAsync(() => There() == "0 loaded,2 two" && Waiting.Count == 2, "the odd ones aside");
        Assert.All(Waiting, change => Assert.Contains("odd keys are not taken", change.Answer, StringComparison.Ordinal));
    }

    /// <summary>A stand-in checks references at the commit; the row that it names then is the one set aside.</summary>
    [Fact]
    public async Task A_row_that_refers_to_nothing_is_set_aside()
    {
        await StartAsync(new QuarantineRule(Rows: 5));
        await systems.RunAsync(systems.B, "DELETE FROM t");
        await systems.RunAsync(systems.A, "INSERT INTO child VALUES (1, 0); INSERT INTO t VALUES (7, 'seven')");
        await systems.WaitAsync(() => There() == "7 seven" && Waiting.Count == 1, "the child aside");
        Assert.Equal("child", Waiting[0].Table.Name);
        await systems.RunAsync(systems.B, "INSERT INTO t VALUES (0, 'restored')");
        await systems.Engine.Quarantine.RetryAsync(Name, [Waiting[0].Id], "test", cancellation);
        await systems.WaitAsync(() => Waiting.Count == 0, "an empty quarantine");
        Assert.Equal(["1"], systems.Rows("b.db", "SELECT CAST(id AS TEXT) FROM child"));
    }

    [Fact]
    public async Task A_row_that_refers_to_one_in_quarantine_comes_before_it()
    {
        await StartAsync(new QuarantineRule(Rows: 5));
        systems.B.Drills.Refuse(new RefusedRow("t", "2"));
        await systems.RunAsync(systems.A, "INSERT INTO t VALUES (2, 'two')");
        await systems.WaitAsync(() => Waiting.Count == 1, "the refusal");
        await systems.RunAsync(systems.A, "INSERT INTO child VALUES (9, 2)");
        await systems.WaitAsync(() => systems.Rows("b.db", "SELECT CAST(id AS TEXT) FROM child") is ["9"], "the child");
        Assert.Equal("t", Assert.Single(Waiting).Table.Name);
    }

    [Fact]
    public async Task A_row_that_cannot_be_treated_waits_until_the_treatment_is_another()
    {
        await StartAsync(
            new QuarantineRule(Rows: 5),
            treatment: [new TreatmentStep("*.t", Compute: [new ComputedColumn("ratio", "100 / length(v)")])]
        );
        await systems.RunAsync(systems.A, "INSERT INTO t VALUES (1, ''), (2, 'two')");
        await systems.WaitAsync(() => There() == "0 loaded,2 two" && Waiting.Count == 1, "the row aside");
        Assert.Null(Waiting[0].Into);
        await systems.RunAsync(systems.A, "UPDATE t SET v = 'one' WHERE id = 1");
        await systems.WaitAsync(() => Waiting.Count == 2, "its correction behind it");
        await systems.Engine.Quarantine.DropAsync(Name, [Waiting[0].Id], "corrected at the source", "test", cancellation);
        await systems.WaitAsync(() => Waiting.Count == 0, "an empty quarantine");
        Assert.Equal("0 loaded,1 one,2 two", There());
    }

    [Fact]
    public async Task Loaded_again_the_table_has_nothing_in_quarantine()
    {
        await StartAsync(new QuarantineRule(Rows: 5));
        systems.B.Drills.Refuse(new RefusedRow("t", "2"));
        await systems.RunAsync(systems.A, "INSERT INTO t VALUES (2, 'two')");
        await systems.WaitAsync(() => Waiting.Count == 1, "the refusal");
        systems.B.Drills.Allow(new RefusedRow("t", "2"));
        await systems.Engine.ReloadAsync(Name, [Waiting[0].Table], "test", cancellation);
        await systems.WaitAsync(() => There() == "0 loaded,2 two" && State == CrossingState.Following, "the load");
        Assert.Empty(Waiting);
    }

    /// <summary>A transaction too large to fold is applied in parts; refused rows of it wait as others do.</summary>
    [Fact]
    public async Task A_large_transaction_goes_on_without_its_refused_rows()
    {
        await StartAsync(new QuarantineRule(Rows: 5));
        systems.B.Drills.Refuse(new RefusedRow("t", "70000"));
        await systems.RunAsync(
            systems.A,
            "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 100000) INSERT INTO t SELECT i, 'a value that "
                + "makes the row somewhat longer ' || i FROM n"
        );
        await systems.WaitAsync(() => Count() == 100000, "all but one");
        Assert.Equal("70000", Assert.Single(Waiting).Change.After.DisplayAt(0));
    }

    private IReadOnlyList<WaitingChange> Waiting => systems.Engine.Quarantine.Waiting(Name)!;

    private CrossingState State => systems.Engine.Status(Name)!.State;

    private string There() =>
        systems.Rows("b.db", "SELECT coalesce(group_concat(r), '') FROM (SELECT id || ' ' || v AS r FROM t ORDER BY id)")[0];

    private int Count() => int.Parse(systems.Rows("b.db", "SELECT CAST(count(*) AS TEXT) FROM t")[0]);

    private async Task StartAsync(
        QuarantineRule? rule,
        ExistingRows existing = ExistingRows.Refuse,
        IReadOnlyList<TreatmentStep>? treatment = null
    )
    {
        var rules = new TableRules([new TableRule(Take: "a.*")]);
        await systems.Engine.DefineAsync(
            new CrossingDefinition(
                Name,
                CrossingDefinition.Copy,
                "a",
                "b",
                rules,
                new StartOptions(Existing: existing),
                Treatment: treatment,
                Quarantine: rule
            ),
            "test",
            cancellation
        );
        await systems.Engine.RunAsync(Name, "test", cancellation, Name);
        await systems.WaitAsync(() => State == CrossingState.Following, "following");
    }
}
