using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Engine.Commands;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>Tables that a person's own statement makes.</summary>
public sealed class OwnStatementTests(TwoServers servers)
{
    private const string Head = "CREATE TABLE \"public\".\"loan\" (\n";
    private const string Columns = "  id integer NOT NULL,\n  due date,\n  note text";
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task A_statement_of_ones_own_makes_the_table_and_keys_follow()
    {
        var (a, b) = await TwoAsync();
        var own = $"CREATE UNLOGGED TABLE \"public\".\"loan\" (\n{Columns} DEFAULT 'a;b'\n) WITH (fillfactor=70);";
        await using var crossing = await Crossing.StartAsync(a, b, Definition(own));
        await crossing.FollowsAsync();
        await a.RunAsync("INSERT INTO loan VALUES (50, '2026-01-01', 'x'); DELETE FROM loan WHERE id = 1");
        await crossing.SameAsync("loan");
        Assert.Equal(
            "u {fillfactor=70} p",
            await b.AskAsync(
                "SELECT relpersistence::text || ' ' || reloptions::text || ' ' || (SELECT string_agg(contype::text, '') FROM "
                    + "pg_constraint WHERE conrelid = c.oid) FROM pg_class c WHERE oid = 'loan'::regclass"
            )
        );
    }

    [Fact]
    public async Task The_plan_shows_it_and_refuses_what_is_not_such_a_statement()
    {
        var (a, b) = await TwoAsync();
        await using var crossing = await Crossing.DefineAsync(a, b, Definition(null));
        var plain = Assert.Single((await PlanAsync(null)).Statements, statement => statement.Makes is not null).Text;
        Assert.StartsWith(Head, plain, StringComparison.Ordinal);
        Assert.Equal(
            plain + " TABLESPACE fast",
            Assert.Single((await PlanAsync(plain + " TABLESPACE fast")).Statements, statement => statement.Makes is not null).Text
        );
        Assert.Contains(
            "does not begin with CREATE TABLE \"public\".\"loan\" (",
            await WrongAsync("DROP TABLE public.other"),
            StringComparison.Ordinal
        );
        Assert.Contains("does not begin with", await WrongAsync("CREATE TABLE public.other (\n  id integer)"), StringComparison.Ordinal);
        Assert.Contains("more than one statement", await WrongAsync(plain + "; DROP TABLE public.other"), StringComparison.Ordinal);
        Assert.Contains(
            "no replicated table",
            Assert
                .Single(
                    (await crossing.Engine.PlanAsync(Definition(plain) with { Naming = new Naming(Suffix: "_x") }, cancellation)).Checks,
                    line => !line.Ok
                )
                .Found,
            StringComparison.Ordinal
        );

        async Task<string> WrongAsync(string statement) => Assert.Single((await PlanAsync(statement)).Checks, line => !line.Ok).Found;
        Task<CrossingPlan> PlanAsync(string? statement) => crossing.Engine.PlanAsync(Definition(statement), cancellation);
    }

    /// <summary>A quote that is not what it looks like hides a semicolon from us; the server takes one statement all the same.</summary>
    [Theory]
    [InlineData(
        "CREATE TABLE \"public\".\"loan\" (\n  id integer NOT NULL,\n  due date,\n  note text DEFAULT E'\\''); DROP TABLE "
            + "public.other; --')",
        "42601"
    )]
    [InlineData(
        "CREATE TABLE \"public\".\"loan\" (\n  id integer NOT NULL,\n  due timestamp,\n  note text)",
        "makes another table than its rows need"
    )]
    [InlineData("CREATE TABLE \"public\".\"loan\" (\n  id integer NOT NULL,\n  due date,\n  note text\n) TABLESPACE nowhere", "nowhere")]
    public async Task What_goes_wrong_with_it_stops_before_anything_is_changed(string statement, string words)
    {
        var (a, b) = await TwoAsync();
        await b.RunAsync("CREATE TABLE other (id int)");
        await using var crossing = await Crossing.DefineAsync(a, b, Definition(statement));
        await crossing.Engine.RunAsync(Crossing.Name, "test", cancellation);
        await crossing.UntilAsync(() => crossing.Status.State == CrossingState.Faulted, "the fault");
        Assert.Contains(words, crossing.Status.Fault!.What, StringComparison.Ordinal);
        Assert.Equal(
            "t t",
            await b.AskAsync(
                "SELECT (to_regclass('public.other') IS NOT NULL)::text::char(1) || ' ' || (to_regclass('public.loan') IS "
                    + "NULL)::text::char(1)"
            )
        );
    }

    private async Task<(Database From, Database To)> TwoAsync()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(
            "CREATE TABLE loan (id int PRIMARY KEY, due date, note text); INSERT INTO loan SELECT i, DATE '2026-01-01' + i, 'n' || i "
                + "FROM generate_series(1, 20) i"
        );
        return (a, b);
    }

    private static CrossingDefinition Definition(string? statement) =>
        new(
            Crossing.Name,
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules([new TableRule(Take: "public.loan")]),
            Structure: statement is null ? null : [new TableStatement("public.loan", statement)]
        );
}
