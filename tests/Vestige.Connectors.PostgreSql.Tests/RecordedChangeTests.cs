using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// A source whose event trigger tells each change of a table at its place in the log. What looks at the catalog cannot tell apart is
/// carried then; what was done while nothing was recorded is found as without the trigger.
/// </summary>
public sealed class RecordedChangeTests(TwoServers servers)
{
    private const string Tables = """
        CREATE TABLE t (id int PRIMARY KEY, a text, b text);
        INSERT INTO t SELECT i, 'a' || i, 'b' || i FROM generate_series(1, 20) i;
        CREATE TABLE beside (id int PRIMARY KEY, v text);
        """;

    private const string Columns = """
        SELECT string_agg(concat_ws(' ', attname, format_type(atttypid, atttypmod)), ', ' ORDER BY attname) FROM pg_attribute
        WHERE attrelid = 't'::regclass AND attnum > 0 AND NOT attisdropped
        """;

    private const string Rows = "SELECT string_agg(to_jsonb(t)::text, ' ' ORDER BY id) FROM t";
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    /// <summary>Each while it is read, while nothing is read, and in one transaction.</summary>
    [Theory]
    [InlineData("ALTER TABLE t RENAME a TO x§ALTER TABLE t RENAME b TO a§ALTER TABLE t RENAME x TO b")]
    [InlineData(
        "ALTER TABLE t RENAME a TO x§ALTER TABLE t RENAME b TO a§ALTER TABLE t RENAME x TO b§"
            + "INSERT INTO t (id, a, b) VALUES (99, 'r', 's')§ALTER TABLE t DROP a§ALTER TABLE t ADD a text"
    )]
    [InlineData(
        "ALTER TABLE t DROP b§ALTER TABLE t ADD b text§ALTER TABLE t RENAME a TO x§ALTER TABLE t RENAME b TO a§"
            + "ALTER TABLE t RENAME x TO b§INSERT INTO t (id, a, b) VALUES (99, 'r', 's')"
    )]
    [InlineData(
        "UPDATE t SET b = 'before'§ALTER TABLE t DROP b§ALTER TABLE t ADD b text DEFAULT 'new'§UPDATE t SET b = 'z' WHERE id < 4"
    )]
    [InlineData("ALTER TABLE t DROP a§ALTER TABLE t RENAME b TO a§UPDATE t SET a = 'kept' WHERE id = 3")]
    [InlineData(
        "ALTER TABLE t ADD c int DEFAULT 5§ALTER TABLE t ALTER c SET DEFAULT 7§INSERT INTO t (id) VALUES (99)§ALTER TABLE t DROP c"
    )]
    [InlineData(
        "ALTER TABLE t ADD c int DEFAULT 1§UPDATE t SET c = 2 WHERE id = 2§ALTER TABLE t DROP c§ALTER TABLE t ADD c int DEFAULT 3§"
            + "UPDATE t SET a = 'later' WHERE id < 9"
    )]
    [InlineData("ALTER TABLE t ADD c text§CREATE UNIQUE INDEX u ON t (c)§UPDATE t SET c = id§DROP INDEX u§UPDATE t SET c = 'same'")]
    public async Task What_two_looks_cannot_tell_apart_is_carried(string statements)
    {
        foreach (var (isAway, isOne) in new[] { (false, false), (true, false), (true, true) })
        {
            var (a, b) = await BothAsync();
            await using var crossing = await Crossing.StartAsync(a, b, Definition());
            await crossing.FollowsAsync();
            await a.RunAsync("UPDATE t SET a = 'once' WHERE id = 1");
            await crossing.SameAsync("t");
            await crossing.RunAsync(
                isAway,
                isOne ? $"BEGIN; {statements.Replace("§", "; ", StringComparison.Ordinal)}; COMMIT" : statements
            );
            await a.RunAsync("UPDATE t SET a = 'end' WHERE id = 7; INSERT INTO beside VALUES (7, 'goes on')");
            await crossing.SameAsync("beside");
            await crossing.UntilAsync(
                () => Cause(crossing) is not null || a.PollAsync(Rows).Result == b.PollAsync(Rows).Result,
                $"the same rows, {(isAway, isOne)}"
            );
            Assert.Null(Cause(crossing));
            Assert.Null(crossing.Status.Fault);
            Assert.Equal(await a.AskAsync(Columns), await b.AskAsync(Columns));
        }
    }

    [Fact]
    public async Task A_version_is_exact_lies_at_its_place_and_has_its_statement()
    {
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(a, b, Definition());
        await crossing.FollowsAsync();
        await a.RunAsync("ALTER TABLE t ADD c int");
        await a.RunAsync("BEGIN; ALTER TABLE t RENAME c TO d; ALTER TABLE t ALTER d SET DEFAULT 5; COMMIT");
        await a.RunAsync("CREATE INDEX ON t (a); COMMENT ON TABLE t IS 'x'; GRANT SELECT ON t TO PUBLIC");
        await a.RunAsync("INSERT INTO t (id) VALUES (70)");
        await crossing.SameAsync("t");
        var versions = Versions(crossing).Skip(1).ToList();
        Assert.Equal(
            ["Column c added (integer)", "Column c renamed to d", "Default of column d set to 5"],
            versions.Select(version => string.Join(", ", version.Changes.Select(change => change.Words)))
        );
        Assert.All(versions, version => Assert.Equal((VersionCertainty.Exact, null), (version.Certainty, version.NotBefore)));
        Assert.Equal([0, 0, 1], versions.Select(version => version.Ordinal));

        Assert.Equal(
            ["ALTER TABLE t ADD c int", "ALTER TABLE t RENAME c TO d", "ALTER TABLE t ALTER d SET DEFAULT 5"],
            versions.Select(version => version.Statement)
        );

        // What was sent with others may hold what is not for everybody.
        await a.RunAsync("DO $$ BEGIN PERFORM 'secret'; ALTER TABLE t DROP d; END $$");
        await crossing.UntilAsync(() => Versions(crossing).Count == 5, "the last version");
        Assert.Null(Versions(crossing)[^1].Statement);
    }

    /// <summary>The trigger is off in between, so what is recorded afterwards does not follow on what is known.</summary>
    [Theory]
    [InlineData("ALTER TABLE t DROP b§ALTER TABLE t ADD b text", "ALTER TABLE t ADD c int")]
    [InlineData("ALTER TABLE t RENAME a TO x§ALTER TABLE t RENAME b TO a§ALTER TABLE t RENAME x TO b", "ALTER TABLE t ADD c int")]
    public async Task What_was_done_while_nothing_was_recorded_holds_the_table(string unrecorded, string recorded)
    {
        foreach (var isAway in new[] { false, true })
        {
            var (a, b) = await BothAsync();
            await using var crossing = await Crossing.StartAsync(a, b, Definition());
            await crossing.FollowsAsync();
            await a.RunAsync("ALTER EVENT TRIGGER vestige_schema_changes DISABLE");
            await crossing.RunAsync(
                isAway,
                $"{unrecorded}§INSERT INTO t (id, a, b) VALUES (99, 'r', 's')§"
                    + $"ALTER EVENT TRIGGER vestige_schema_changes ENABLE ALWAYS§{recorded}§INSERT INTO t (id) VALUES (98)"
            );
            await crossing.UntilAsync(() => Cause(crossing) is not null || Same(a, b), "held, or right all the same");
            if (isAway)
            {
                Assert.NotNull(Cause(crossing));
            }
        }
    }

    /// <summary>Some of them commit in between, some lock nothing, and some concern no table that is read.</summary>
    private static readonly IReadOnlyList<string> Harmless =
    [
        "CREATE UNIQUE INDEX CONCURRENTLY soon ON t (id, a)",
        "REINDEX TABLE CONCURRENTLY t",
        "DROP INDEX CONCURRENTLY soon",
        "ALTER TABLE t ADD CONSTRAINT long CHECK (id < 1000000) NOT VALID",
        "ALTER TABLE t VALIDATE CONSTRAINT long",
        "ALTER TABLE t RENAME CONSTRAINT long TO longer",
        "CREATE TYPE mood AS ENUM ('sad')",
        "ALTER TYPE mood ADD VALUE 'glad'",
        "CREATE TABLE whole (id int) PARTITION BY RANGE (id)",
        "CREATE TABLE part PARTITION OF whole FOR VALUES FROM (0) TO (9)",
        "ALTER TABLE whole DETACH PARTITION part CONCURRENTLY",
        "VACUUM FULL t",
        "CREATE VIEW seen AS SELECT id FROM t",
        "CREATE RULE none AS ON DELETE TO beside DO ALSO NOTHING",
        "CREATE POLICY mine ON beside USING (true)",
        "CREATE STATISTICS dull ON id, a FROM t",
        "CREATE TEMPORARY TABLE t AS SELECT 1 AS id",
        "UPDATE t SET a = 'after' WHERE id = 11",
    ];

    /// <summary>Whatever fails in it, and whoever runs the statement: the statement succeeds, and the change is found.</summary>
    [Fact]
    public async Task It_never_makes_a_statement_fail_and_fires_for_everybody()
    {
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(a, b, Definition());
        await crossing.FollowsAsync();
        await a.RunAsync("SET session_replication_role = 'replica'; ALTER TABLE t ADD quiet int");
        Assert.Equal("1", await a.AskAsync("SELECT count(*) FROM vestige.schema_changes"));
        foreach (var statement in Harmless)
        {
            await a.RunAsync(statement);
        }

        await crossing.SameAsync("t");
        await a.RunAsync("DROP TABLE vestige.schema_changes");
        await a.RunAsync("ALTER TABLE t ADD c int DEFAULT 4");
        await a.RunAsync("UPDATE t SET c = 9 WHERE id = 3");
        await crossing.SameAsync("t");
        Assert.Null(Cause(crossing));
    }

    /// <summary>A load that begins behind a change has it already; one that began before does not.</summary>
    [Fact]
    public async Task A_table_that_is_loaded_again_meets_only_what_was_done_after_its_load()
    {
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(a, b, Definition());
        await crossing.FollowsAsync();
        for (var i = 0; i < 4; i++)
        {
            await a.RunAsync($"ALTER TABLE t ADD c{i} int DEFAULT {i}");
            await crossing.Engine.ReloadAsync(Crossing.Name, [new("public", "t")], "test", cancellation);
            await a.RunAsync($"ALTER TABLE t RENAME c{i} TO d{i}; UPDATE t SET d{i} = id WHERE id < 5");
            await crossing.SameAsync("t");
        }

        Assert.Null(Cause(crossing));
        Assert.Equal(await a.AskAsync(Columns), await b.AskAsync(Columns));
    }

    private static List<SchemaVersion> Versions(Crossing crossing) =>
        [.. crossing.Versions.Everything.Where(version => version.Table.Name == "t")];

    private static bool Same(Database a, Database b)
    {
        try
        {
            return a.PollAsync(Rows).Result == b.PollAsync(Rows).Result;
        }
        catch (AggregateException)
        {
            return false;
        }
    }

    private static CrossingDefinition Definition() =>
        new(
            Crossing.Name,
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules([new TableRule(Take: "public.t"), new TableRule(Take: "public.beside")]),
            SchemaChanges: [new SchemaChangeRule("*", SchemaChangeAction.Carry, [SchemaChangeKind.ColumnDropped])]
        );

    private static string? Cause(Crossing crossing) => crossing.Status.Tables.FirstOrDefault(table => table.Source.Name == "t")?.Cause;

    private async Task<(Database From, Database To)> BothAsync()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Tables);
        await a.RecordSchemaChangesAsync();
        return (a, b);
    }
}
