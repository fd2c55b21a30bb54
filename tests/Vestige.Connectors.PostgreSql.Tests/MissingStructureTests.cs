using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Faults;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>Indexes and constraints that are added at the source while a crossing follows, and then built on the target.</summary>
public sealed class MissingStructureTests(TwoServers servers)
{
    private const string Tables = """
        CREATE TABLE p (id int PRIMARY KEY, v text);
        CREATE TABLE t (id int PRIMARY KEY, p int, u int, v text, span int4range);
        INSERT INTO p SELECT i, 'p' FROM generate_series(1, 20) i;
        INSERT INTO t SELECT i, 1 + i % 20, i, 'v', int4range(i, i + 1) FROM generate_series(1, 500) i;
        """;

    private const string Added = """
        CREATE INDEX t_v ON t (lower(v), u DESC) WHERE u > 3;
        CREATE UNIQUE INDEX t_uv ON t (u, v);
        ALTER TABLE t ADD CONSTRAINT t_u UNIQUE (u), ADD CONSTRAINT t_two UNIQUE (u, p) DEFERRABLE INITIALLY DEFERRED;
        ALTER TABLE t ADD CONSTRAINT t_apart EXCLUDE USING gist (span WITH &&);
        ALTER TABLE t ADD CONSTRAINT t_check CHECK (u > 0), ADD CONSTRAINT t_p FOREIGN KEY (p) REFERENCES p ON DELETE CASCADE;
        """;

    /// <summary>The server's own words for what a table has.</summary>
    private const string Structure = """
        SELECT string_agg(d, E'\n' ORDER BY d) FROM (
            SELECT pg_get_indexdef(indexrelid) || indisvalid AS d FROM pg_index WHERE indrelid = 't'::regclass
            UNION ALL SELECT conname || pg_get_constraintdef(oid) || convalidated FROM pg_constraint WHERE conrelid = 't'::regclass) x
        """;

    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task What_the_source_got_is_built_while_rows_are_written()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Tables);
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.SameAsync("p", "t");
        Assert.Empty(await crossing.Engine.Structure.MissingAsync(Crossing.Name, cancellation));
        await a.RunAsync(Added);
        using var ending = new CancellationTokenSource();
        var writing = WriteAsync(a, ending.Token);
        var missing = await crossing.Engine.Structure.MissingAsync(Crossing.Name, cancellation);
        Assert.Equal(
            ["t_apart", "t_check", "t_p", "t_two", "t_u", "t_uv", "t_v"],
            missing.Select(part => part.Name).Order(StringComparer.Ordinal)
        );
        await BuildAsync(crossing, [.. missing.Select(part => ($"{part.Table}", part.Name))]);
        await ending.CancelAsync();
        await writing;
        Assert.Empty(await crossing.Engine.Structure.MissingAsync(Crossing.Name, cancellation));
        Assert.Equal(await a.AskAsync(Structure), await b.AskAsync(Structure));
        await crossing.SameAsync("p", "t");
    }

    /// <summary>Of the tables that the rule is for, and what cannot be built is not tried for ever.</summary>
    [Fact]
    public async Task A_rule_builds_what_the_source_gets()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Tables);
        var definition = new CrossingDefinition(
            Crossing.Name,
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules([new TableRule(Take: "public.*")]),
            SchemaChanges: [new SchemaChangeRule("public.t", SchemaChangeAction.Carry, [SchemaChangeKind.ConstraintAdded])]
        );
        await using var crossing = await Crossing.StartAsync(a, b, definition);
        await crossing.SameAsync("p", "t");
        await b.RunAsync("UPDATE t SET p = 99 WHERE id = 2");
        await a.RunAsync(Added + "CREATE INDEX p_v ON p (v)");
        await crossing.UntilAsync(() => crossing.Said.Exists(said => said.StartsWith("Not built", StringComparison.Ordinal)), "tried");
        await crossing.UntilAsync(() => crossing.Engine.Structure.Running(Crossing.Name).Count == 0, "built");
        await Task.Delay(3 * crossing.LookEvery, cancellation);
        var missing = await crossing.Engine.Structure.MissingAsync(Crossing.Name, cancellation);
        Assert.Equal(["p_v", "t_p"], missing.Select(part => part.Name).Order(StringComparer.Ordinal));
        Assert.Single(crossing.Said, said => said.StartsWith("Not built", StringComparison.Ordinal));
    }

    /// <summary>An event names what the target refuses, the others are built, and the rest of an attempt is no obstacle.</summary>
    [Fact]
    public async Task What_rows_of_the_target_violate_is_told_and_can_be_tried_again()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Tables);
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.SameAsync("p", "t");
        await b.RunAsync("UPDATE t SET u = 1, p = 99 WHERE id = 2");
        await a.RunAsync(Added);
        (string, string)[] all = [("public.t", "t_u"), ("public.t", "t_p"), ("public.t", "t_v")];
        await BuildAsync(crossing, all);
        var missing = await crossing.Engine.Structure.MissingAsync(Crossing.Name, cancellation);
        Assert.Contains(missing, part => part.Name == "t_u");
        Assert.Contains(missing, part => part.Name == "t_p" && part.Statements.Count == 1);
        Assert.DoesNotContain(missing, part => part.Name == "t_v");
        Assert.Equal(2, crossing.Said.Count(text => text.StartsWith("Not built on the target", StringComparison.Ordinal)));
        await b.RunAsync("UPDATE t SET u = 2, p = 3 WHERE id = 2");
        await BuildAsync(crossing, all[..2]);
        Assert.DoesNotContain(
            await crossing.Engine.Structure.MissingAsync(Crossing.Name, cancellation),
            part => part.Name is "t_u" or "t_p"
        );
    }

    [Fact]
    public async Task What_is_not_missing_is_refused()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Tables);
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.SameAsync("p", "t");
        foreach (var names in new (string, string)[][] { [], [("public.t", "other")], [("public.t", "t_pkey")] })
        {
            await Assert.ThrowsAsync<RequestRefusedException>(() =>
                crossing.Engine.Structure.BuildAsync(Crossing.Name, names, "test", cancellation)
            );
        }
    }

    private async Task BuildAsync(Crossing crossing, (string, string)[] names)
    {
        await crossing.Engine.Structure.BuildAsync(Crossing.Name, names, "test", cancellation);
        await crossing.UntilAsync(() => crossing.Engine.Structure.Running(Crossing.Name).Count == 0, "the building");
    }

    private static async Task WriteAsync(Database a, CancellationToken ending)
    {
        for (var i = 0; !ending.IsCancellationRequested; i++)
        {
            var key = 1000 + (i % 200);
            await a.RunAsync(
                $"BEGIN; DELETE FROM t WHERE id = {key}; "
                    + $"INSERT INTO t VALUES ({key}, {1 + (i % 20)}, {key}, 'w', int4range({key}, {key + 1})); "
                    + $"UPDATE t SET v = 'x{i}' WHERE id = {1 + (i % 500)}; COMMIT"
            );
        }
    }
}
