using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Tests.Conformance;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// Columns that repeat, taken apart by load and by log; what the child rows should be the server reckons with its own functions.
/// </summary>
public sealed class ChildRowsTests(TwoServers servers)
{
    private const string Schema = """
        CREATE TABLE loan (id int PRIMARY KEY, branch int, tags text[], days int[], items jsonb, note text);
        ALTER TABLE loan REPLICA IDENTITY FULL;
        INSERT INTO loan SELECT i, i % 3, ARRAY['t' || i, NULL, 'a "b", \c {d}', '', 'NULL', ' null '], ARRAY[i, NULL, -i],
          jsonb_build_array(jsonb_build_object('title', 'book "' || i || '"', 'fee', i * 1.10, 'copies', i, 'lost', i % 2 = 0, 'by',
              jsonb_build_object('name', 'n' || i)), jsonb_build_object('title', NULL)), 'n'
          FROM generate_series(1, 400) i;
        UPDATE loan SET tags = NULL, items = NULL WHERE id % 50 = 0;
        UPDATE loan SET tags = '{}', items = '[]', days = '[4:5]={7,8}' WHERE id % 50 = 1;
        UPDATE loan SET items = 'null' WHERE id % 50 = 2;
        """;

    private const string Work = """
        UPDATE loan SET tags = tags || ARRAY['more'] WHERE id % 7 = 0;
        UPDATE loan SET tags = tags[2:3], items = items || '[{"title": "third", "fee": 0.10}]'
            WHERE id % 11 = 0 AND jsonb_typeof(items) = 'array';
        UPDATE loan SET branch = (branch + 1) % 3 WHERE id % 5 = 0;
        UPDATE loan SET id = id + 5000 WHERE id % 13 = 0;
        UPDATE loan SET note = 'nothing that repeats' WHERE id % 3 = 0;
        DELETE FROM loan WHERE id % 17 = 0;
        INSERT INTO loan SELECT i, 1, ARRAY['x' || i], ARRAY[1, 2, 3], '[{"title": "new", "copies": 3}]', NULL
            FROM generate_series(1000, 1050) i;
        BEGIN; UPDATE loan SET tags = ARRAY['one', 'two'] WHERE id = 3; UPDATE loan SET tags = ARRAY['two']
            WHERE id = 3; DELETE FROM loan WHERE id = 4; INSERT INTO loan VALUES (4, 1, ARRAY['again'], NULL, '[]', NULL); COMMIT;
        """;

    private static readonly TreatmentStep[] Steps =
    [
        new("public.loan", Keep: "branch <> 2"),
        new(
            "public.loan",
            Children: [new ChildRows("tags", "dw.loan_tag", "place", [new ChildColumn("tag")]), new ChildRows("days", "dw.loan_day")]
        ),
        new(
            "public.loan",
            Children:
            [
                new ChildRows(
                    "items",
                    "dw.loan_item",
                    Columns:
                    [
                        new ChildColumn("title", "title"),
                        new ChildColumn("fee", "fee", "decimal"),
                        new ChildColumn("copies", "copies", "integer"),
                        new ChildColumn("lost", "lost", "boolean"),
                        new ChildColumn("by", "by"),
                    ]
                ),
            ]
        ),
        new("public.loan", LeaveOut: ["items", "tags"]),
        new("public.loan", Mask: [new MaskedColumn("id", MaskMethod.Hash, Key: "k")]),
        new("public.loan.items", Mask: [new MaskedColumn("title", MaskMethod.Hash, Key: "k")]),
        new("public.loan.items", Keep: "fee IS NULL OR fee <> 22.00"),
        new("public.loan.items", Convert: [new ConvertedColumn("copies", "integer", AllowLoss: true)]),
    ];

    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task Child_rows_are_what_the_server_itself_takes_apart()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync("CREATE EXTENSION pgcrypto;" + Schema);
        await using var crossing = await Crossing.StartAsync(a, b, Definition(Steps));
        await crossing.FollowsAsync();
        await AgreeAsync(crossing, a, b);
        await a.RunAsync(Work);
        await AgreeAsync(crossing, a, b);
        Assert.Equal(0, crossing.Status.Tables.Sum(table => table.Tally.Unexpected.Total));
        Assert.Equal(
            "id,place",
            await b.AskAsync(
                "SELECT string_agg(a.attname, ',' ORDER BY k.n) FROM pg_constraint c, unnest(c.conkey) WITH ORDINALITY k(num, n), "
                    + "pg_attribute a WHERE c.conrelid = 'dw.loan_tag'::regclass AND c.contype = 'p' AND a.attrelid = c.conrelid AND "
                    + "a.attnum = k.num"
            )
        );
        Assert.Equal(
            "int4",
            await b.AskAsync(
                "SELECT t.typname FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid WHERE attrelid = 'dw.loan_item'::regclass "
                    + "AND attname = 'copies'"
            )
        );

        // A table is loaded again with what it brings, and truncated with it.
        await crossing.Engine.ReloadAsync(Crossing.Name, [], "test", cancellation);
        await crossing.FollowsAsync();
        await AgreeAsync(crossing, a, b);
        await a.RunAsync("TRUNCATE loan; INSERT INTO loan VALUES (1, 1, ARRAY['only'], NULL, NULL, NULL)");
        await AgreeAsync(crossing, a, b);
    }

    /// <summary>What cannot be taken apart stops the crossing at that row, and the answer does not show what a mask hides.</summary>
    [Fact]
    public async Task A_value_of_another_kind_is_refused_at_its_place()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Schema);
        await using var crossing = await Crossing.StartAsync(a, b, Definition(Steps));
        await crossing.FollowsAsync();
        await a.RunAsync("""INSERT INTO loan VALUES (2000, 1, NULL, NULL, '[{"title": "secret", "copies": 1.5}]', NULL)""");
        await crossing.UntilAsync(() => crossing.Status.State == CrossingState.Faulted, "the fault");
        var fault = crossing.Status.Fault!;
        Assert.Contains("copies of element 1 is a JSON number that is not integer", fault.What, StringComparison.Ordinal);
        Assert.DoesNotContain("secret", fault.What, StringComparison.Ordinal);
        Assert.DoesNotContain("2000", fault.What, StringComparison.Ordinal);
    }

    [Fact]
    public async Task The_whole_row_must_be_logged_and_the_statement_that_mends_it_is_told()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Schema + "ALTER TABLE loan REPLICA IDENTITY DEFAULT");
        await using var crossing = await Crossing.DefineAsync(
            a,
            b,
            Definition(new TreatmentStep("public.loan", Children: [new ChildRows("tags", "dw.loan_tag")]))
        );
        var refused = await Assert.ThrowsAsync<NotReadyException>(() => crossing.Engine.RunAsync(Crossing.Name, "test", cancellation));
        var line = Assert.Single(refused.Checks, line => !line.Ok);
        Assert.Equal("whole rows of public.loan", line.Step);
        await a.RunAsync(line.Remedy!);
        await crossing.Engine.RunAsync(Crossing.Name, "test", cancellation);
        await crossing.FollowsAsync();
    }

    private async Task AgreeAsync(Crossing crossing, Database a, Database b)
    {
        // The key under which a mask hashes, as the target has it: the rows of both sides are matched by the server's own HMAC.
        var key = Convert.ToHexStringLower(new NamedKeys().Of("k"));
        string Hash(string value) => $"encode(hmac(convert_to({value}, 'UTF8'), '\\x{key}'::bytea, 'sha256'), 'hex')";
        var kept = "loan l WHERE branch <> 2";
        await SameAsync(
            crossing,
            a,
            b,
            $"(SELECT {Hash("l.id::text")} AS id, u.n AS place, u.t AS tag FROM loan l, unnest(l.tags) WITH ORDINALITY u(t, n) WHERE "
                + "branch <> 2)",
            "dw.loan_tag"
        );
        await SameAsync(
            crossing,
            a,
            b,
            $"(SELECT {Hash("l.id::text")} AS id, u.n AS ordinal, u.t AS value FROM loan l, unnest(l.days) WITH ORDINALITY u(t, n) "
                + "WHERE branch <> 2)",
            "dw.loan_day"
        );
        await SameAsync(
            crossing,
            a,
            b,
            $"""
            (SELECT {Hash("l.id::text")} AS id, u.n AS ordinal, {Hash(
                "u.e->>'title'"
            )} AS title, (u.e->>'fee')::numeric AS fee,
             (u.e->>'copies')::int AS copies, (u.e->>'lost')::boolean AS lost, (u.e->>'by')::jsonb::text AS by
             FROM loan l, jsonb_array_elements(CASE WHEN jsonb_typeof(l.items) = 'array' THEN l.items ELSE '[]' END) WITH ORDINALITY u(e,
                 n) WHERE branch <> 2 AND coalesce((u.e->>'fee')::numeric <> 22.00, true))
            """,
            "dw.loan_item"
        );
        await SameAsync(crossing, a, b, $"(SELECT {Hash("l.id::text")} AS id, branch, days, note FROM {kept})", "loan");
    }

    private static async Task SameAsync(Crossing crossing, Database a, Database b, string wanted, string table) =>
        await crossing.UntilAsync(
            () => a.DigestAsync(wanted).GetAwaiter().GetResult() == b.DigestAsync(table).GetAwaiter().GetResult(),
            table
        );

    private static CrossingDefinition Definition(params TreatmentStep[] steps) =>
        new(Crossing.Name, CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "public.loan")]), Treatment: steps);
}
