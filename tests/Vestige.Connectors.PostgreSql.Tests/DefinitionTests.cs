using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>What a definition says of the start, and what becomes of a crossing that gets another one while it runs.</summary>
public sealed class DefinitionTests(TwoServers servers)
{
    private const string References =
        "SELECT count(*) FROM pg_constraint WHERE contype = 'f' AND conrelid = 'child'::regclass AND convalidated";
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task Another_definition_loads_only_the_tables_that_it_concerns()
    {
        var (a, b) = await TwoAsync();
        await using var crossing = await Crossing.StartAsync(a, b, Definition("public.one", "public.two"));
        await crossing.FollowsAsync();
        await b.RunAsync("UPDATE one SET v = 'marked' WHERE id = 1");
        var other = Definition("public.two", "public.three", "public.one") with
        {
            Treatment =
            [
                new TreatmentStep("public.two", Keep: "id > 5"),
                new TreatmentStep("public.two", Compute: [new ComputedColumn("w", "v || '!'")]),
            ],
        };
        var change = await crossing.Engine.CompareAsync(other, cancellation);
        Assert.Equal(["public.three"], change.Added.Select(table => table.ToString()));
        Assert.Equal(["public.two"], change.Reloaded.Select(table => table.ToString()));
        Assert.Empty(change.Removed);
        await crossing.Engine.ChangeAsync(other, "test", cancellation);
        await a.RunAsync(
            "INSERT INTO one VALUES (100, 'a'); INSERT INTO two VALUES (100, 'b'); INSERT INTO three VALUES (100, 'c'); UPDATE two "
                + "SET v = 'x' WHERE id = 3"
        );
        await crossing.SameAsync("three");
        await AgreesAsync(crossing, a, b, "(SELECT id, v, v || '!' AS w FROM two WHERE id > 5)", "two");
        await crossing.SameAsync("(SELECT * FROM one WHERE id <> 1)");
        Assert.Equal("marked", await b.AskAsync("SELECT v FROM one WHERE id = 1"));

        // A table that leaves keeps its rows and gets no more; one that comes back is loaded again.
        await crossing.Engine.ChangeAsync(Definition("public.one"), "test", cancellation);
        await crossing.FollowsAsync();
        await a.RunAsync("INSERT INTO three VALUES (101, 'late'); INSERT INTO one VALUES (101, 'late')");
        await crossing.SameAsync("(SELECT * FROM one WHERE id > 50)");
        Assert.Equal("0", await b.AskAsync("SELECT count(*) FROM three WHERE id = 101"));
        Assert.Equal(["public.one"], crossing.Status.Tables.Select(table => table.Source.ToString()));
        var refused = await Assert.ThrowsAsync<NotReadyException>(() =>
            crossing.Engine.ChangeAsync(Definition("public.one", "public.three"), "test", cancellation)
        );
        Assert.Contains(refused.Checks, line => line is { Ok: false, Step: "target table public.three" });
        await crossing.Engine.ChangeAsync(
            Definition("public.one", "public.three") with
            {
                Start = new StartOptions(ExistingRows.Empty),
            },
            "test",
            cancellation,
            typed: Crossing.Name
        );
        await crossing.SameAsync("three");
    }

    [Fact]
    public async Task A_change_that_changes_nothing_is_not_felt_and_source_and_target_stay()
    {
        var (a, b) = await TwoAsync();
        await using var crossing = await Crossing.StartAsync(a, b, Definition("public.one"));
        await crossing.FollowsAsync();
        Assert.False((await crossing.Engine.CompareAsync(Definition("public.on*"), cancellation)).Restarts);
        await crossing.Engine.ChangeAsync(Definition("public.on*"), "test", cancellation);
        Assert.Equal(CrossingState.Following, crossing.Status.State);
        await Assert.ThrowsAsync<RequestRefusedException>(() =>
            crossing.Engine.CompareAsync(Definition("public.one") with { Target = "other" }, cancellation)
        );
    }

    [Fact]
    public async Task Rows_only_once_end_by_themselves_and_leave_no_slot()
    {
        var (a, b) = await TwoAsync();
        await using var crossing = await Crossing.StartAsync(
            a,
            b,
            Definition("public.*") with
            {
                Start = new StartOptions(Kind: StartKind.Rows),
            }
        );
        await crossing.UntilAsync(() => crossing.Status.State == CrossingState.Finished, "the end");
        await crossing.SameAsync("one", "two", "three");
        await crossing.UntilAsync(
            () =>
                a.AskAsync("SELECT count(*) FROM pg_replication_slots WHERE database = current_database()").GetAwaiter().GetResult() == "0",
            "no slot"
        );
        Assert.Equal("1", await b.AskAsync("SELECT count(*) FROM pg_constraint WHERE conrelid = 'two'::regclass AND contype = 'p'"));
        await Assert.ThrowsAsync<RequestRefusedException>(() => crossing.Engine.RunAsync(Crossing.Name, "test", cancellation));
        await crossing.EndAsync();
        await crossing.BeginAsync();
        Assert.Equal(CrossingState.Finished, crossing.Status.State);
        await a.RunAsync("INSERT INTO one VALUES (200, 'later')");
        await crossing.Engine.ReloadAsync(Crossing.Name, [], "test", cancellation);
        await crossing.UntilAsync(() => crossing.Status.State == CrossingState.Finished, "the end again");
        await crossing.SameAsync("one");
    }

    [Fact]
    public async Task Structure_only_makes_tables_keys_and_references_without_rows()
    {
        var (a, b) = await TwoAsync();
        await a.RunAsync("ALTER TABLE two ADD COLUMN one int REFERENCES one; CREATE INDEX two_v ON two (v)");
        await using var crossing = await Crossing.StartAsync(
            a,
            b,
            Definition("public.*") with
            {
                Start = new StartOptions(Kind: StartKind.Structure),
            }
        );
        await crossing.UntilAsync(() => crossing.Status.State == CrossingState.Finished, "the end");
        Assert.Equal(
            "0 0 0",
            await b.AskAsync(
                "SELECT (SELECT count(*) FROM one) || ' ' || (SELECT count(*) FROM two) || ' ' || (SELECT count(*) FROM three)"
            )
        );
        Assert.Equal(
            "f p",
            await b.AskAsync(
                "SELECT string_agg(contype::text, ' ' ORDER BY contype::text) FROM pg_constraint WHERE conrelid = 'two'::regclass"
            )
        );
        Assert.Equal("1", await b.AskAsync("SELECT count(*) FROM pg_indexes WHERE indexname = 'two_v'"));
    }

    [Fact]
    public async Task Changes_alone_go_into_tables_that_were_loaded_by_other_means()
    {
        var (a, b) = await TwoAsync();
        await b.RunAsync(
            "CREATE TABLE one (id int PRIMARY KEY, v text); INSERT INTO one SELECT i, 'v' || i FROM generate_series(1, 20) i; CREATE "
                + "TABLE two (id int PRIMARY KEY, v text); INSERT INTO two VALUES (1, 'v1')"
        );
        var definition = Definition("public.one", "public.two") with { Start = new StartOptions(Kind: StartKind.Changes) };
        await using var crossing = await Crossing.DefineAsync(a, b, definition);
        var refused = await Assert.ThrowsAsync<NotReadyException>(() => crossing.Engine.RunAsync(Crossing.Name, "test", cancellation));
        var line = Assert.Single(refused.Checks, line => !line.Ok);
        Assert.Equal("rows of public.two", line.Step);
        await crossing.Engine.DefineAsync(
            definition with
            {
                Start = new StartOptions(Kind: StartKind.Changes, Accept: [line.Step]),
            },
            "test",
            cancellation
        );
        await crossing.Engine.RunAsync(Crossing.Name, "test", cancellation);
        await crossing.FollowsAsync();
        await a.RunAsync(
            "UPDATE one SET v = 'new' WHERE id = 3; DELETE FROM one WHERE id = 4; INSERT INTO one VALUES (30, 'x'); INSERT INTO two "
                + "VALUES (31, 'y')"
        );
        await crossing.SameAsync("one");
        Assert.Equal("1 31", await b.AskAsync("SELECT string_agg(id::text, ' ' ORDER BY id) FROM two"));
    }

    [Fact]
    public async Task What_an_existing_table_means_is_said_table_by_table()
    {
        var (a, b) = await TwoAsync();
        await b.RunAsync(
            "CREATE TABLE one (id int PRIMARY KEY, v text); INSERT INTO one VALUES (7777, 'old'); CREATE TABLE two (other text); "
                + "INSERT INTO two VALUES ('old'); CREATE TABLE three (id int PRIMARY KEY, v text); INSERT INTO three VALUES (1, 'old')"
        );
        var start = new StartOptions(
            Tables: [new ExistingRule("*.one", ExistingRows.Empty), new ExistingRule("*.two", ExistingRows.Replace)]
        );
        await using var crossing = await Crossing.DefineAsync(a, b, Definition("public.*") with { Start = start });
        var refused = await Assert.ThrowsAsync<NotReadyException>(() => crossing.Engine.RunAsync(Crossing.Name, "test", cancellation));
        Assert.Equal("target table public.three", Assert.Single(refused.Checks, line => !line.Ok).Step);
        Assert.Contains(refused.Checks, line => line.Found.Contains("dropped with its 1 row", StringComparison.Ordinal));
        await b.RunAsync("TRUNCATE three; CREATE VIEW seen AS SELECT * FROM two");
        refused = await Assert.ThrowsAsync<NotReadyException>(() => crossing.Engine.RunAsync(Crossing.Name, "test", cancellation));
        Assert.Contains("seen depend", Assert.Single(refused.Checks, line => !line.Ok).Found, StringComparison.Ordinal);
        await b.RunAsync("DROP VIEW seen");
        var loss = await Assert.ThrowsAsync<LossRefusedException>(() =>
            crossing.Engine.RunAsync(Crossing.Name, "test", cancellation, typed: "another")
        );
        Assert.Equal(["1 row of public.one", "public.two with 1 row"], loss.Losses);
        Assert.Equal("7777", await b.AskAsync("SELECT id FROM one"));
        await crossing.Engine.RunAsync(Crossing.Name, "test", cancellation, typed: Crossing.Name);
        await crossing.FollowsAsync();
        await crossing.SameAsync("one", "two", "three");
    }

    /// <summary>The same where the rows are copied only once: all tables end as of one position.</summary>
    [Fact]
    public async Task Rows_only_once_end_as_of_one_position_also_when_they_were_interrupted()
    {
        await using var crossing = await InterruptedAsync();
        await crossing.KeepAsync(definition => definition with { Start = new StartOptions(Kind: StartKind.Rows) });
        await crossing.Engine.RunAsync(Crossing.Name, "test", cancellation);
        await crossing.UntilAsync(() => crossing.Status.State == CrossingState.Finished, "the end");
        await crossing.SameAsync("parent", "child");
        Assert.Equal("1", await crossing.To.AskAsync(References));
    }

    /// <summary>
    /// A load that was interrupted leaves tables as of different positions; references between them hold once they have caught up.
    /// </summary>
    [Fact]
    public async Task References_are_built_after_a_load_that_was_interrupted_between_parent_and_child()
    {
        await using var crossing = await InterruptedAsync();
        await crossing.Engine.RunAsync(Crossing.Name, "test", cancellation);
        await crossing.FollowsAsync();
        await crossing.SameAsync("parent", "child");
        await crossing.UntilAsync(() => crossing.To.PollAsync(References).GetAwaiter().GetResult() == "1", "the reference");
    }

    /// <summary>As a load leaves it that was interrupted between a parent and its child, after which both got another row.</summary>
    private async Task<Crossing> InterruptedAsync()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(
            "CREATE TABLE parent (id int PRIMARY KEY); CREATE TABLE child (id int PRIMARY KEY, parent int REFERENCES parent); INSERT "
                + "INTO parent VALUES (1); INSERT INTO child VALUES (1, 1)"
        );
        var crossing = await Crossing.StartAsync(a, b, Definition("public.*"));
        await crossing.FollowsAsync();
        await crossing.Engine.PauseAsync(Crossing.Name, "test", cancellation);
        await b.RunAsync(
            "ALTER TABLE child DROP CONSTRAINT child_parent_fkey; UPDATE vestige.progress SET position = NULL; UPDATE "
                + "vestige.progress_table SET loaded = false WHERE name = 'child'"
        );
        await a.RunAsync("INSERT INTO parent VALUES (2); INSERT INTO child VALUES (2, 2)");
        return crossing;
    }

    [Fact]
    public async Task Tables_made_later_are_taken_by_themselves()
    {
        var (a, b) = await TwoAsync();
        var definition = Definition("public.*") with
        {
            Tables = new TableRules([new TableRule(Take: "public.*"), new TableRule(Leave: "*_tmp")], Future: true),
        };
        await using var crossing = await Crossing.StartAsync(a, b, definition);
        await crossing.FollowsAsync();
        await a.RunAsync(
            "CREATE TABLE four (id int PRIMARY KEY, v text); INSERT INTO four VALUES (1, 'a'); CREATE TABLE five_tmp (id int PRIMARY "
                + "KEY); CREATE TABLE keyless (v text)"
        );
        await crossing.UntilAsync(() => crossing.Status.Tables.Count == 4, "the fourth table");
        await a.RunAsync("INSERT INTO four VALUES (2, 'b')");
        await crossing.SameAsync("one", "four");
    }

    private static CrossingDefinition Definition(params string[] rules) =>
        new(Crossing.Name, CrossingDefinition.Copy, "a", "b", new TableRules([.. rules.Select(rule => new TableRule(Take: rule))]));

    private static async Task AgreesAsync(Crossing crossing, Database a, Database b, string wanted, string table) =>
        await crossing.UntilAsync(
            () => a.DigestAsync(wanted).GetAwaiter().GetResult() == b.DigestAsync(table).GetAwaiter().GetResult(),
            table
        );

    private async Task<(Database From, Database To)> TwoAsync()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        foreach (var table in new[] { "one", "two", "three" })
        {
            await a.RunAsync(
                $"CREATE TABLE {table} (id int PRIMARY KEY, v text); INSERT INTO {table} SELECT i, 'v' || i FROM generate_series(1, "
                    + $"20) i; ALTER TABLE {table} REPLICA IDENTITY FULL"
            );
        }

        return (a, b);
    }
}
