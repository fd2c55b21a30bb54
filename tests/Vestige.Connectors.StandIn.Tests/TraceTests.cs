using Vestige.Connectors.StandIn.Drills;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Tracing;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>The journey of a row is told as it was.</summary>
public sealed class TraceTests : IAsyncLifetime
{
    private const string Name = "copy";
    private static readonly TableName Table = new("a", "t");
    private readonly TwoStandIns systems = new();
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    public async ValueTask InitializeAsync()
    {
        await systems.RunAsync(
            systems.A,
            "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT, secret TEXT); INSERT INTO t VALUES (1, 'loaded', 's')"
        );
        await systems.BeginAsync();
        var definition = new CrossingDefinition(
            Name,
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules([new TableRule(Take: "a.*")]),
            Treatment:
            [
                new TreatmentStep("*.t", Keep: "v <> 'private'"),
                new TreatmentStep("*.t", Mask: [new MaskedColumn("secret", MaskMethod.Null)]),
            ],
            Quarantine: new QuarantineRule(Rows: 3)
        );
        await systems.Engine.DefineAsync(definition, "test", cancellation);
        await systems.Engine.RunAsync(Name, "test", cancellation);
        await systems.WaitAsync(() => systems.Engine.Status(Name)!.State == CrossingState.Following, "following");
    }

    public ValueTask DisposeAsync() => systems.DisposeAsync();

    [Fact]
    public async Task Each_change_is_told_with_its_stage()
    {
        systems.B.Drills.Refuse(new RefusedRow("t", "3"));
        var began = DateTimeOffset.UtcNow;
        await systems.RunAsync(systems.A, "INSERT INTO t VALUES (2, 'two', 's'), (3, 'three', 's'), (4, 'private', 's')");
        await systems.RunAsync(systems.A, "UPDATE t SET v = 'deux' WHERE id = 2");
        await systems.WaitAsync(
            () => systems.Engine.Quarantine.Waiting(Name)!.Count == 1 && systems.Rows("b.db", "SELECT v FROM t WHERE id = 2") is ["deux"],
            "all of it"
        );
        await systems.Engine.PauseAsync(Name, "test", cancellation);
        await systems.RunAsync(systems.A, "DELETE FROM t WHERE id = 2");
        await systems.WaitAsync(() => systems.Engine.Status(Name)!.Capture!.Spooled >= systems.A.Head, "the spool");

        var two = await TraceAsync("2");
        Assert.Equal([ChangeKind.Insert, ChangeKind.Update, ChangeKind.Delete], two.Changes.Select(change => change.Change.Kind));
        Assert.Equal(
            [TraceStage.Applied, TraceStage.Applied, TraceStage.Waiting],
            two.Changes.Select(change => Assert.Single(change.Crossings).Stage)
        );
        Assert.All(two.Changes, change => Assert.True(began <= change.CapturedAt && change.CommittedAt <= change.SpooledAt));
        Assert.InRange(two.Changes[0].Crossings[0].AppliedAt!.Value, began, DateTimeOffset.UtcNow);
        Assert.Equal("NULL", two.Changes[0].Crossings[0].Made[0].Change.After.DisplayAt(2));
        Assert.Equal(["secret"], systems.Engine.Trace.MaskedColumns("a", two.Changes[0].Schema));

        var refused = Assert.Single((await TraceAsync("3")).Changes).Crossings[0];
        Assert.Equal((TraceStage.Quarantined, systems.Engine.Quarantine.Waiting(Name)![0].Id), (refused.Stage, refused.Quarantined!.Id));
        Assert.Equal(TraceStage.LeftOut, Assert.Single((await TraceAsync("4")).Changes).Crossings[0].Stage);
        Assert.Empty((await TraceAsync("1")).Changes);
        Assert.Empty((await systems.Engine.Trace.RowAsync("a", new TableName("a", "none"), ["1"], cancellation)).Changes);
        Assert.Equal(3, (await systems.Engine.Trace.TransactionAsync("a", two.Changes[0].Position, cancellation)).Changes.Count);
    }

    [Fact]
    public async Task What_was_given_up_or_edited_in_quarantine_is_told_as_that_and_not_as_applied()
    {
        await systems.RunAsync(
            systems.B,
            "CREATE TRIGGER short BEFORE INSERT ON t WHEN length(NEW.v) > 3 BEGIN SELECT RAISE(ABORT, 'too long'); END"
        );
        await systems.RunAsync(systems.A, "INSERT INTO t VALUES (2, 'second', 's'), (3, 'third', 's'), (4, 'iv', 's')");
        await systems.WaitAsync(() => systems.Engine.Quarantine.Waiting(Name)!.Count == 2, "what waits");
        var waiting = systems.Engine.Quarantine.Waiting(Name)!;
        await systems.Engine.Quarantine.DropAsync(Name, [waiting[0].Id], "not wanted", "Ann", cancellation);
        await systems.Engine.Quarantine.EditAsync(
            Name,
            waiting[1].Id,
            new Dictionary<string, string?> { ["v"] = "3rd" },
            "Ben",
            cancellation
        );
        await systems.WaitAsync(() => systems.Rows("b.db", "SELECT v FROM t WHERE id = 3") is ["3rd"], "the edited row");
        await systems.WaitAsync(() => systems.Engine.Quarantine.Waiting(Name)!.Count == 0, "an empty quarantine");

        var dropped = Assert.Single((await TraceAsync("2")).Changes).Crossings[0];
        Assert.Equal(
            (TraceStage.Dropped, "Ann", "not wanted", null),
            (dropped.Stage, dropped.Decided!.By, dropped.Decided.Words, dropped.AppliedAt)
        );
        var edited = Assert.Single((await TraceAsync("3")).Changes).Crossings[0];
        Assert.Equal((TraceStage.Applied, "Ben", "v"), (edited.Stage, edited.Decided!.By, edited.Decided.Words));
        Assert.Null(Assert.Single((await TraceAsync("4")).Changes).Crossings[0].Decided);

        // Loaded again, its rows are the source's.
        await systems.RunAsync(systems.B, "DROP TRIGGER short");
        await systems.Engine.ReloadAsync(Name, [Table], "test", cancellation);
        await systems.WaitAsync(
            () =>
                systems.Rows("b.db", "SELECT v FROM t WHERE id = 2") is ["second"]
                && systems.Engine.Status(Name)!.Tables.All(table => table.State == TableState.Following),
            "the load"
        );
        Assert.Equal(
            (TraceStage.InLoad, null),
            (
                Assert.Single((await TraceAsync("2")).Changes).Crossings[0].Stage,
                Assert.Single((await TraceAsync("2")).Changes).Crossings[0].Decided
            )
        );
    }

    private Task<Trace> TraceAsync(string key) => systems.Engine.Trace.RowAsync("a", Table, [key], cancellation);
}
