using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.SchemaVersions;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>The versions of tables that the reader of a log notices, and how certain each is.</summary>
public sealed class SchemaVersionTests(TwoServers servers)
{
    private const string Tables = """
        CREATE TABLE t (id int PRIMARY KEY, a text, b text, n int);
        INSERT INTO t SELECT i, 'a' || i, 'b' || i, i FROM generate_series(1, 50) i;
        CREATE TABLE beside (id int PRIMARY KEY, v text);
        """;

    /// <summary>Statements in one transaction, so that no look comes between them; certainty; what is different.</summary>
    [Theory]
    [InlineData("ALTER TABLE t ADD c int", VersionCertainty.Derived, "Column c added (integer)")]
    [InlineData("ALTER TABLE t ADD c int NOT NULL DEFAULT 5", VersionCertainty.Derived, "Column c added (integer not null default 5)")]
    [InlineData("ALTER TABLE t DROP a", VersionCertainty.Derived, "Column a dropped (was text)")]
    [InlineData("ALTER TABLE t RENAME a TO x", VersionCertainty.Derived, "Column a renamed to x")]
    [InlineData("ALTER TABLE t ALTER n TYPE bigint", VersionCertainty.Derived, "Type of column n changed from integer to bigint")]
    [InlineData("ALTER TABLE t ALTER n SET NOT NULL", VersionCertainty.Derived, "Column n changed from NULL to NOT NULL")]
    [InlineData("ALTER TABLE t ALTER n SET DEFAULT 5", VersionCertainty.Derived, "Default of column n set to 5")]
    [InlineData(
        "ALTER TABLE t ALTER n SET DEFAULT 5; ALTER TABLE t ALTER n SET NOT NULL; ALTER TABLE t ADD c text",
        VersionCertainty.Derived,
        "Column n changed from NULL to NOT NULL|Default of column n set to 5|Column c added (text)"
    )]
    [InlineData(
        "ALTER TABLE t RENAME a TO x; ALTER TABLE t RENAME b TO a; ALTER TABLE t RENAME x TO b",
        VersionCertainty.Undecided,
        "Column a renamed to b|Column b renamed to a"
    )]
    [InlineData(
        "ALTER TABLE t DROP b; ALTER TABLE t ADD b text",
        VersionCertainty.Undecided,
        "Column b added (text)|Column b dropped (was text)"
    )]
    [InlineData(
        "ALTER TABLE t ADD y int; ALTER TABLE t DROP y; ALTER TABLE t ADD z int",
        VersionCertainty.Undecided,
        "Column z added (integer)"
    )]
    [InlineData("ALTER TABLE t DROP CONSTRAINT t_pkey", VersionCertainty.Derived, "Key dropped (was id)")]
    [InlineData("DROP TABLE t", VersionCertainty.Derived, "Table dropped or renamed")]
    public async Task A_change_is_a_version_with_its_certainty_and_interval(string statements, VersionCertainty certainty, string words)
    {
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(a, b, "public.t", "public.beside");
        await crossing.FollowsAsync();
        var before = await HeadAsync(a);
        await a.RunAsync($"BEGIN; {statements}; COMMIT");
        var after = await HeadAsync(a);
        await crossing.UntilAsync(() => Versions(crossing).Count > 1, "the second version");
        var (first, second) = (Versions(crossing)[0], Versions(crossing)[1]);
        Assert.Equal((VersionCertainty.Exact, ""), (first.Certainty, first.What));
        Assert.Equal(["id", "a", "b", "n"], first.Schema!.Columns.Select(column => column.Name));
        Assert.Equal(certainty, second.Certainty);
        Assert.Equal(words.Split('|').Order(), second.Changes.Select(change => change.Words).Order());
        Assert.NotEmpty(second.What);

        // It lies where it was made: the interval begins before that and ends after it. A look may begin just before it is committed.
        Assert.True(second.NotBefore!.Value.Offset <= after, $"not before {second.NotBefore}, made by {after}");
        Assert.True(second.From.Offset >= before, $"from {second.From}, made between {before} and {after}");
        Assert.Equal(2, Versions(crossing).Count);
        Assert.Single(crossing.Versions.Everything, version => version.Table.Name == "beside");
    }

    [Fact]
    public async Task Rows_after_a_change_narrow_its_interval_to_the_transaction_that_holds_them()
    {
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(a, b, "public.t", "public.beside");
        await crossing.FollowsAsync();
        await a.RunAsync(
            "BEGIN; INSERT INTO t VALUES (100, 'x', 'y', 1); ALTER TABLE t ADD c int; INSERT INTO t VALUES (101, 'x', 'y', 1, 2); COMMIT"
        );
        var head = await HeadAsync(a);
        await crossing.UntilAsync(() => Versions(crossing).Count > 1, "the second version");
        Assert.True(Versions(crossing)[1].From.Offset <= head);
    }

    [Fact]
    public async Task What_was_done_while_nothing_was_read_is_noticed_at_the_next_start()
    {
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(a, b, "public.t", "public.beside");
        await crossing.FollowsAsync();
        await crossing.EndAsync();
        await a.RunAsync("ALTER TABLE t RENAME a TO x");
        await crossing.BeginAsync();
        await crossing.UntilAsync(() => Versions(crossing).Count > 1, "the second version");
        Assert.Equal(["Column a renamed to x"], Versions(crossing)[1].Changes.Select(change => change.Words));
        await crossing.EndAsync();
        await crossing.BeginAsync();
        await crossing.FollowsAsync();
        Assert.Equal(2, Versions(crossing).Count);
    }

    private async Task<(Database From, Database To)> BothAsync()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Tables);
        return (a, b);
    }

    private static async Task<ulong> HeadAsync(Database database) =>
        Lsn.Parse(await database.AskAsync("SELECT pg_current_wal_insert_lsn()::text"))!.Value.Offset;

    private static List<SchemaVersion> Versions(Crossing crossing) =>
        [.. crossing.Versions.Everything.Where(version => version.Table.Name == "t")];
}
