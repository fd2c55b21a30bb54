using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Tests.Conformance;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>Treated tables between real servers, by load and by log; what should be there is reckoned by the server itself.</summary>
public sealed class TreatmentTests(TwoServers servers)
{
    private const string Schema = """
        CREATE EXTENSION pgcrypto;
        CREATE SCHEMA lib;
        CREATE TABLE lib.branch (id int PRIMARY KEY, town text NOT NULL UNIQUE);
        CREATE TABLE lib.patron (id int PRIMARY KEY, branch int REFERENCES lib.branch, name text COLLATE "C", email varchar(60) UNIQUE,
            born date, card char(8),
          fee numeric(8,2) DEFAULT 0, note text, big text, since timestamptz, CHECK (fee >= 0), CONSTRAINT named CHECK (name <> ''),
          fee2 numeric GENERATED ALWAYS AS (fee * 2) STORED);
        CREATE INDEX patron_name ON lib.patron (name);
        CREATE INDEX patron_note ON lib.patron (lower(note)) WHERE note IS NOT NULL;
        CREATE TABLE lib.loan (id bigint PRIMARY KEY, patron int REFERENCES lib.patron ON DELETE CASCADE, kind text, days int);
        INSERT INTO lib.branch SELECT i, 'town ' || i FROM generate_series(1, 5) i;
        INSERT INTO lib.patron SELECT i, 1 + i % 5, 'name ' || i, CASE WHEN i % 7 > 0 THEN 'p' || i || '@x.org' END,
            DATE '1950-01-01' + i * 10, 'c' || i, i % 100, 'note ' || i,
          CASE WHEN i % 50 = 0 THEN (SELECT string_agg(md5(j::text || i), '') FROM generate_series(1, 300) j) END, now()
              FROM generate_series(1, 3000) i;
        INSERT INTO lib.loan SELECT i, 1 + i % 3000, (ARRAY['book', 'film', 'map', NULL])[1 + i % 4], i % 60
            FROM generate_series(1, 20000) i;
        """;

    private const string Work = """
        UPDATE lib.patron SET branch = 1 + (branch + 1) % 5 WHERE id % 11 = 0;
        UPDATE lib.patron SET email = 'new' || id || '@y.org', fee = fee + 1 WHERE id % 13 = 0;
        UPDATE lib.patron SET note = NULL WHERE id % 17 = 0;
        UPDATE lib.patron SET id = id + 100000 WHERE id % 401 = 0 AND NOT EXISTS (SELECT 1 FROM lib.loan WHERE patron = lib.patron.id);
        UPDATE lib.loan SET kind = (ARRAY['map', 'book', NULL, 'film'])[1 + id % 4] WHERE id % 5 = 0;
        UPDATE lib.loan SET id = id + 1000000 WHERE id % 97 = 0;
        DELETE FROM lib.loan WHERE id % 23 = 0;
        DELETE FROM lib.patron WHERE id % 29 = 0;
        INSERT INTO lib.patron SELECT i, 2, 'more ' || i, 'm' || i, NULL, 'x', 3, 'n' FROM generate_series(4000, 4200) i;
        INSERT INTO lib.loan SELECT i, 4000 + i % 200, 'book', 5 FROM generate_series(30000, 31000) i;
        """;

    private static readonly TreatmentStep[] Steps =
    [
        new("lib.patron", Keep: "branch <> 3"),
        new("lib.patron", LeaveOut: ["note", "card"]),
        new("lib.patron", Rename: [new RenamedColumn("born", "birthday")]),
        new("lib.patron", Convert: [new ConvertedColumn("fee", "numeric(12,2)"), new ConvertedColumn("branch", "bigint")]),
        new(
            "lib.patron",
            Compute: [new ComputedColumn("label", "upper(left(name, 4)) || '-' || id"), new ComputedColumn("origin", "'lib'")]
        ),
        new("lib.patron", Mask: [new MaskedColumn("email", MaskMethod.Hash, Key: "k"), new MaskedColumn("birthday", MaskMethod.Null)]),
        new(
            "lib.loan",
            Split:
            [
                new SplitTable("dw.books", "kind = 'book'"),
                new SplitTable("dw.pictures", "kind IN ('film', 'map')"),
                new SplitTable("dw.others"),
            ]
        ),
    ];

    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task Treated_tables_are_what_the_server_itself_would_make_of_them()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Schema + "ALTER TABLE lib.patron REPLICA IDENTITY FULL; ALTER TABLE lib.loan REPLICA IDENTITY FULL");
        await using var crossing = await Crossing.StartAsync(a, b, Definition(Steps));
        await crossing.FollowsAsync();
        await AgreeAsync(crossing, a, b);
        await a.RunAsync(Work);
        await AgreeAsync(crossing, a, b);
        await crossing.EndAsync();
        await a.RunAsync(
            "UPDATE lib.patron SET branch = 3 WHERE id BETWEEN 100 AND 200; UPDATE lib.loan SET kind = 'book' WHERE id < 2000; UPDATE "
                + "lib.patron SET branch = 2 WHERE id BETWEEN 150 AND 160"
        );
        await crossing.BeginAsync();
        await AgreeAsync(crossing, a, b);
        Assert.Equal(
            "patron_email_key patron_name patron_pkey",
            await b.AskAsync(
                "SELECT string_agg(indexname, ' ' ORDER BY indexname) FROM pg_indexes WHERE schemaname = 'dw' AND tablename = 'patron'"
            )
        );
        Assert.Equal(
            "named",
            await b.AskAsync(
                "SELECT string_agg(conname, ' ' ORDER BY conname) FROM pg_constraint WHERE conrelid = 'dw.patron'::regclass AND "
                    + "contype IN ('c', 'f')"
            )
        );
        Assert.Equal(
            "C",
            await b.AskAsync(
                "SELECT collname FROM pg_attribute a JOIN pg_collation c ON c.oid = attcollation WHERE attrelid = "
                    + "'dw.patron'::regclass AND attname = 'name'"
            )
        );
        Assert.Equal(
            "others_pkey",
            await b.AskAsync("SELECT string_agg(conname, ' ') FROM pg_constraint WHERE conrelid = 'dw.others'::regclass")
        );
        await a.RunAsync("TRUNCATE lib.patron CASCADE");
        await AgreeAsync(crossing, a, b);
    }

    [Fact]
    public async Task A_type_that_the_target_does_not_have_blocks()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(
            "CREATE SCHEMA lib; CREATE TYPE lib.mood AS ENUM ('fine'); CREATE TABLE lib.patron (id int PRIMARY KEY, a text, b text, m "
                + "lib.mood, ms lib.mood[])"
        );
        var steps = new TreatmentStep(
            "lib.patron",
            Convert: [new ConvertedColumn("a", "nubmer", AllowLoss: true), new ConvertedColumn("b", "varchar(0)", AllowLoss: true)]
        );
        await using var crossing = await Crossing.DefineAsync(a, b, Definition([steps]));
        var refused = await Assert.ThrowsAsync<NotReadyException>(() => crossing.Engine.RunAsync(Crossing.Name, "test", cancellation));
        Assert.Equal(
            ["type character varying(0)", "type nubmer"],
            refused.Checks.Where(line => !line.Ok).Select(line => line.Step).Order()
        );
    }

    [Fact]
    public async Task A_filter_that_the_log_cannot_serve_blocks_with_the_statement_that_mends_it()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Schema);
        await using var crossing = await Crossing.DefineAsync(a, b, Definition(new TreatmentStep("lib.patron", Keep: "branch <> 3")));
        var refused = await Assert.ThrowsAsync<NotReadyException>(() => crossing.Engine.RunAsync(Crossing.Name, "test", cancellation));
        var line = Assert.Single(refused.Checks, line => !line.Ok);
        Assert.Equal("whole rows of lib.patron", line.Step);
        await a.RunAsync(line.Remedy!);
        await crossing.Engine.RunAsync(Crossing.Name, "test", cancellation);
        await crossing.FollowsAsync();
    }

    [Fact]
    public async Task Renamed_tables_keep_all_that_belongs_to_them()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Schema);
        await using var crossing = await Crossing.StartAsync(
            a,
            b,
            Definition() with
            {
                Naming = new Naming(Into: "Other place", SchemaAsPrefix: true),
            }
        );
        await crossing.FollowsAsync();
        await a.RunAsync(Work);
        foreach (var table in new[] { "branch", "patron", "loan" })
        {
            var (here, there) = ("", "x");
            await crossing.UntilAsync(
                () =>
                    (here = a.DigestAsync($"lib.{table}").GetAwaiter().GetResult())
                    == (there = b.DigestAsync($"\"Other place\".lib_{table}").GetAwaiter().GetResult()),
                table
            );
        }

        Assert.Equal(
            "lib_patron_branch_fkey lib_patron_email_key lib_patron_pkey named patron_fee_check",
            await b.AskAsync(
                "SELECT string_agg(conname, ' ' ORDER BY conname COLLATE \"C\") FROM pg_constraint WHERE conrelid = '\"Other "
                    + "place\".lib_patron'::regclass"
            )
        );
        Assert.Equal(
            "2",
            await b.AskAsync(
                "SELECT count(*) FROM pg_indexes WHERE schemaname = 'Other place' AND indexname IN ('lib_patron_name', 'lib_patron_note')"
            )
        );
        Assert.Equal(
            "s",
            await b.AskAsync(
                "SELECT attgenerated::text FROM pg_attribute WHERE attrelid = '\"Other place\".lib_patron'::regclass AND attname = 'fee2'"
            )
        );
    }

    [Fact]
    public async Task Deleted_rows_stay_with_their_time_and_come_back()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Schema);
        await using var crossing = await Crossing.StartAsync(
            a,
            b,
            Definition() with
            {
                Apply = [new ApplyRule("lib.*", ApplyMode.KeepDeleted, "gone")],
            }
        );
        await crossing.FollowsAsync();
        await a.RunAsync(
            "DELETE FROM lib.patron WHERE id % 2 = 0; UPDATE lib.patron SET note = 'x' WHERE id = 1; BEGIN; DELETE FROM lib.loan "
                + "WHERE id = 4; INSERT INTO lib.loan VALUES (4, 1, 'again', 1); COMMIT"
        );
        await a.RunAsync(
            "INSERT INTO lib.patron (id, branch, name) VALUES (2, 1, 'back'); INSERT INTO lib.patron (id, branch, name) VALUES (9000, "
                + "1, 'new'); UPDATE lib.patron SET id = 9001 WHERE id = 9000"
        );
        await crossing.UntilAsync(
            () => b.AskAsync("SELECT count(*) FROM lib.patron WHERE id = 9001").GetAwaiter().GetResult() == "1",
            "the last change"
        );
        Assert.Equal("3002 1502", await b.AskAsync("SELECT count(*) || ' ' || count(*) FILTER (WHERE gone IS NULL) FROM lib.patron"));
        Assert.Equal(
            "name 4/note 4/f",
            await b.AskAsync("SELECT name || '/' || note || '/' || (gone IS NULL)::text::char FROM lib.patron WHERE id = 4")
        );
        Assert.Equal("back t", await b.AskAsync("SELECT name || ' ' || (gone IS NULL)::text::char FROM lib.patron WHERE id = 2"));
        Assert.Equal("f", await b.AskAsync("SELECT (gone IS NULL)::text::char FROM lib.patron WHERE id = 9000"));
        Assert.Equal("again t", await b.AskAsync("SELECT kind || ' ' || (gone IS NULL)::text::char FROM lib.loan WHERE id = 4"));
        Assert.All(crossing.Status.Tables, table => Assert.Equal(0, table.Tally.Unexpected.Total));
        await a.RunAsync("TRUNCATE lib.loan");
        await crossing.UntilAsync(() => crossing.Status.Tables.Any(table => table.Cause is not null), "the held table");
    }

    /// <summary>No value that a mask hides is in anything that is told: events, status, faults.</summary>
    [Fact]
    public async Task A_refused_row_does_not_tell_what_a_mask_hides()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(
            "CREATE TABLE secret (code text PRIMARY KEY, amount int, word text); INSERT INTO secret VALUES ('geheim-1', 1, 'verborgen')"
        );
        var steps = new[]
        {
            new TreatmentStep("*", Compute: [new ComputedColumn("share", "100 / amount")]),
            new TreatmentStep("*", Mask: [new MaskedColumn("code", MaskMethod.Hash), new MaskedColumn("word", MaskMethod.Pseudonym)]),
        };
        await using var crossing = await Crossing.StartAsync(a, b, Definition(steps));
        await crossing.FollowsAsync();
        await a.RunAsync("INSERT INTO secret VALUES ('geheim-2', 0, 'verborgen')");
        await crossing.UntilAsync(() => crossing.Status.Fault is not null, "the fault");
        Assert.Contains("division by zero", crossing.Status.Fault!.What, StringComparison.Ordinal);
        var told = string.Join(
            '\n',
            [
                .. crossing.Said,
                crossing.Status.Fault.ToString(),
                .. crossing.Engine.Meter(Crossing.Name)!.Recent.Select(change => change.Key),
            ]
        );
        Assert.DoesNotContain("geheim", told, StringComparison.Ordinal);
        Assert.DoesNotContain("verborgen", told, StringComparison.Ordinal);
        Assert.DoesNotContain("geheim", await b.AskAsync("SELECT string_agg(t::text, ' ') FROM secret t"), StringComparison.Ordinal);
    }

    private static CrossingDefinition Definition(params TreatmentStep[] steps) =>
        new(
            Crossing.Name,
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules([new TableRule(Take: "lib.*"), new TableRule(Take: "public.*")]),
            Naming: steps.Length > 2 ? new Naming(Schemas: [new NameOfSchema("lib", "dw")]) : null,
            Treatment: steps
        );

    private static async Task AgreeAsync(Crossing crossing, Database a, Database b)
    {
        var key = $"'\\x{Convert.ToHexString(new NamedKeys().Of("k"))}'::bytea";
        (string Table, string Columns, string Expected)[] tables =
        [
            ("dw.branch", "id, town", "SELECT id, town FROM lib.branch"),
            (
                "dw.patron",
                "id, branch, name, email, birthday, fee, big, since, label, origin",
                $"SELECT id, branch::bigint, name, encode(public.hmac(email::text::bytea, {key}, 'sha256'), 'hex') AS email, "
                    + "NULL::date AS birthday, fee::numeric(12,2), big, since, upper(left(name, 4)) || '-' || id, 'lib' FROM lib.patron "
                    + "WHERE branch <> 3"
            ),
            ("dw.books", "id, patron, kind, days", "SELECT * FROM lib.loan WHERE kind = 'book'"),
            ("dw.pictures", "id, patron, kind, days", "SELECT * FROM lib.loan WHERE kind IN ('film', 'map')"),
            ("dw.others", "id, patron, kind, days", "SELECT * FROM lib.loan WHERE kind IS NULL OR kind NOT IN ('book', 'film', 'map')"),
        ];
        foreach (var (table, columns, expected) in tables)
        {
            var (wanted, found) = ("", "");
            await crossing.UntilAsync(
                () =>
                {
                    wanted = a.DigestAsync($"({expected})").GetAwaiter().GetResult();
                    found = b.DigestAsync($"(SELECT {columns} FROM {table})").GetAwaiter().GetResult();
                    return wanted == found;
                },
                $"{table}: {wanted}, {found}"
            );
        }
    }
}
