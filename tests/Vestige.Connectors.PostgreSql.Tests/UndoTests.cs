using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Undoing;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>Copies that are dropped and can be restored for a while, with the rows, keys and indexes that they had.</summary>
public sealed class UndoTests(TwoServers servers)
{
    private const string Tables = """
        CREATE TABLE parent (id int PRIMARY KEY, v text UNIQUE);
        CREATE TABLE child (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, p int REFERENCES parent, v text);
        CREATE TABLE other (id int PRIMARY KEY, c int REFERENCES child, v text);
        CREATE INDEX ON child (v);
        INSERT INTO parent SELECT i, 'p' || i FROM generate_series(1, 200) i;
        INSERT INTO child (p, v) SELECT i, 'c' FROM generate_series(1, 200) i;
        INSERT INTO other SELECT i, i, 'o' FROM generate_series(1, 200) i;
        """;

    private static readonly TableName[] Child = [new("public", "child")];
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    /// <summary>What stays is written as before: neither its parents nor its children are held by what waits.</summary>
    [Fact]
    public async Task A_removed_copy_is_restored_with_all_that_belongs_to_it_and_the_others_go_on_meanwhile()
    {
        var (a, b) = await BothAsync(Tables);
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await ReferencesAsync(b, 2);
        var before = await b.AskAsync(StructureOf("public"));
        var rows = await b.DigestAsync("child");
        await RemoveAsync(crossing);
        Assert.Equal("", await b.AskAsync("SELECT to_regclass('child')::text"));
        var kept = Assert.Single(await crossing.Engine.Undo.ListAsync("b", cancellation));
        Assert.Equal(Child, kept.Tables);
        Assert.Equal(before, await b.AskAsync(StructureOf(kept.Place)));
        Assert.DoesNotContain(
            (await crossing.Target("b").Catalogue.ReadTablesAsync(cancellation)).Select(table => table.Schema.Name),
            table => table.Name == "child"
        );

        await a.RunAsync("DELETE FROM other WHERE id < 50; DELETE FROM child WHERE id < 50; DELETE FROM parent WHERE id < 50");
        await a.RunAsync("UPDATE other SET v = 'after'");
        await crossing.SameAsync("parent", "other");
        await crossing.EndAsync();
        await crossing.BeginAsync();
        await crossing.Engine.Undo.RestoreAsync("b", kept.Id, "test", cancellation);
        Assert.Equal(rows, await b.DigestAsync("child"));
        Assert.Equal(before, await b.AskAsync(StructureOf("public")));
        Assert.Equal("", await b.AskAsync($"SELECT to_regnamespace('{kept.Place}')::text"));
        Assert.Empty(await crossing.Engine.Undo.ListAsync("b", cancellation));
        Assert.Null(crossing.Status.Fault);
    }

    [Fact]
    public async Task Nothing_is_done_where_a_view_needs_the_copy_or_its_name_is_taken_again()
    {
        var (a, b) = await BothAsync(Tables);
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await b.RunAsync("CREATE VIEW needs_it AS SELECT * FROM child");
        var refused = await Assert.ThrowsAnyAsync<PortException>(() => RemoveAsync(crossing));
        Assert.Contains("view public.needs_it", refused.Message, StringComparison.Ordinal);
        Assert.Empty(await crossing.Engine.Undo.ListAsync("b", cancellation));
        await a.RunAsync("UPDATE child SET v = 'continues'");
        await crossing.SameAsync("child");

        await b.RunAsync("DROP VIEW needs_it");
        await RemoveAsync(crossing);
        var kept = Assert.Single(await crossing.Engine.Undo.ListAsync("b", cancellation));
        await b.RunAsync("CREATE TABLE child (id int PRIMARY KEY)");
        var taken = await Assert.ThrowsAnyAsync<PortException>(() => RestoreAsync(crossing, kept));
        Assert.Contains("already exists", taken.Message, StringComparison.Ordinal);
        Assert.Equal("200", await b.AskAsync($"SELECT count(*) FROM {kept.Place}.child"));

        await b.RunAsync("DROP TABLE child");
        await crossing.Engine.Tables.AddAsync(Crossing.Name, Child, "test", null, cancellation);
        await crossing.UntilAsync(
            () => crossing.Status.Tables.Any(table => table.Source == Child[0] && table.State == TableState.Following),
            "the table following again"
        );
        var written = await Assert.ThrowsAsync<RequestRefusedException>(() => RestoreAsync(crossing, kept));
        Assert.Contains("writes public.child now", written.Message, StringComparison.Ordinal);
    }

    /// <summary>The load makes the tables again, whose indexes have the names of those that wait.</summary>
    [Fact]
    public async Task A_load_of_all_tables_leaves_the_copies_of_before_for_a_while()
    {
        var (a, b) = await BothAsync(Tables);
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await ReferencesAsync(b, 2);
        await b.RunAsync("UPDATE other SET v = 'changed on the target'");
        await crossing.Engine.ReloadAsync(Crossing.Name, [], "test", cancellation, undoHours: 2);
        await crossing.FollowsAsync();
        await crossing.SameAsync("parent", "child", "other");
        var kept = Assert.Single(await crossing.Engine.Undo.OfCrossingAsync(Crossing.Name, cancellation));
        Assert.Equal(3, kept.Tables.Count);
        Assert.Equal("200", await b.AskAsync($"SELECT count(*) FROM {kept.Place}.other WHERE v = 'changed on the target'"));
        Assert.Equal(
            "2",
            await b.AskAsync($"SELECT count(*) FROM pg_constraint WHERE contype = 'f' AND connamespace = '{kept.Place}'::regnamespace")
        );

        crossing.Undo.Expire();
        await b.UntilAsync($"SELECT to_regnamespace('{kept.Place}')::text", "");
        await crossing.UntilAsync(() => crossing.Undo.ListAsync(cancellation).Result.Count == 0, "nothing left to restore");
        await a.RunAsync("UPDATE other SET v = 'after'");
        await crossing.SameAsync("other");
    }

    /// <summary>A history that is kept cannot be loaded in place, and is lost without this.</summary>
    [Fact]
    public async Task A_history_that_is_loaded_again_can_be_read_where_it_waits()
    {
        var (a, b) = await BothAsync(Tables);
        var definition = Definition with { Apply = [new ApplyRule("public.other", ApplyMode.KeepDeleted)] };
        await using var crossing = await Crossing.StartAsync(a, b, definition);
        await crossing.FollowsAsync();
        await a.RunAsync("DELETE FROM other WHERE id <= 10");
        await b.UntilAsync("SELECT count(*) FROM other", "200");
        TableName[] other = [new("public", "other")];
        await crossing.Engine.ReloadAsync(Crossing.Name, other, "test", cancellation, undoHours: 2);
        await b.UntilAsync("SELECT count(*) FROM other", "190");
        var kept = Assert.Single(await crossing.Engine.Undo.ListAsync("b", cancellation));
        Assert.Equal("200", await b.AskAsync($"SELECT count(*) FROM {kept.Place}.other"));
        var inPlace = await Assert.ThrowsAsync<RequestRefusedException>(() =>
            crossing.Engine.ReloadAsync(Crossing.Name, Child, "test", cancellation, undoHours: 2)
        );
        Assert.Contains("in place", inPlace.Message, StringComparison.Ordinal);
    }

    /// <summary>As a process leaves it that ended between the entry and the step that drops.</summary>
    [Fact]
    public async Task An_entry_of_tables_that_are_where_they_were_is_found_to_be_nothing()
    {
        var (a, b) = await BothAsync(Tables);
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        var now = DateTimeOffset.UtcNow;
        TableName[] gone = [new("public", "gone")];
        await crossing.Undo.AddAsync([new UndoEntry("0a0b0c0d", "b", "x", gone, "Removed.", "test", now, now.AddHours(1))], cancellation);
        var refused = await Assert.ThrowsAsync<RequestRefusedException>(() =>
            crossing.Engine.Undo.RestoreAsync("b", "0a0b0c0d", "test", cancellation)
        );
        Assert.Contains("no longer be restored", refused.Message, StringComparison.Ordinal);
        await crossing.Undo.AddAsync([new UndoEntry("0a0b0c0e", "b", "x", Child, "Removed.", "test", now, now)], cancellation);
        await crossing.UntilAsync(() => crossing.Undo.ListAsync(cancellation).Result.Count == 0, "the entry gone when its time is over");
        await crossing.SameAsync("child");
    }

    [Theory]
    [InlineData(0)]
    [InlineData(721)]
    public async Task Hours_out_of_range_are_refused(int hours)
    {
        var (a, b) = await BothAsync(Tables);
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await Assert.ThrowsAsync<RequestRefusedException>(() => RemoveAsync(crossing, hours));
        await crossing.SameAsync("child");
    }

    /// <summary>What a mask hides may have to go at once.</summary>
    [Fact]
    public async Task A_masked_copy_is_not_kept()
    {
        var (a, b) = await BothAsync(Tables);
        var definition = Definition with
        {
            Treatment = [new TreatmentStep("public.child", Mask: [new MaskedColumn("v", MaskMethod.Null)])],
        };
        await using var crossing = await Crossing.StartAsync(a, b, definition);
        await crossing.FollowsAsync();
        var refused = await Assert.ThrowsAsync<RequestRefusedException>(() => RemoveAsync(crossing));
        Assert.Contains("masked", refused.Message, StringComparison.Ordinal);
        Assert.Equal("200", await b.AskAsync("SELECT count(*) FROM child"));
    }

    private static CrossingDefinition Definition =>
        new(Crossing.Name, CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "public.*")]));

    private Task RemoveAsync(Crossing crossing, int hours = 24) =>
        crossing.Engine.Tables.RemoveAsync(Crossing.Name, Child, new DroppedCopies(hours), "test", cancellation);

    private Task RestoreAsync(Crossing crossing, UndoEntry kept) =>
        crossing.Engine.Undo.RestoreAsync("b", kept.Id, "test", cancellation);

    /// <summary>Columns with defaults, and the names of keys, constraints and indexes, references aside.</summary>
    private static string StructureOf(string schema) =>
        $"""
        SELECT concat((SELECT string_agg(concat_ws(' ', attname, format_type(atttypid, atttypmod), attnotnull, attidentity), ',' ORDER BY
            attnum) FROM pg_attribute WHERE attrelid = '{schema}.child'::regclass AND attnum > 0), ';',
          (SELECT string_agg(conname || contype::text, ',' ORDER BY conname) FROM pg_constraint WHERE conrelid = '{schema}.child'::regclass
            AND contype <> 'f'), ';',
          (SELECT string_agg(c.relname, ',' ORDER BY c.relname) FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid
            WHERE i.indrelid = '{schema}.child'::regclass))
        """;

    private static Task ReferencesAsync(Database database, int count) =>
        database.UntilAsync("SELECT count(*) FROM pg_constraint WHERE contype = 'f' AND connamespace = 'public'::regnamespace", $"{count}");

    private async Task<(Database From, Database To)> BothAsync(string tables)
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(tables);
        return (a, b);
    }
}
