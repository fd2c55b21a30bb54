using System.Globalization;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;
using Vestige.Engine.Reconciling;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// Comparing tables of two servers: digests that the servers compute, against the same computed here and against full comparisons by the
/// servers themselves.
/// </summary>
public sealed class ReconcileTests(TwoServers servers)
{
    private const string Awkward = """
        CREATE TYPE mood AS ENUM ('glad', 'it''s "odd"');
        CREATE TYPE pair AS (one int, other text);
        CREATE TABLE t (id int PRIMARY KEY, a text, b varchar(20), c char(6), d numeric, e numeric(12,3), f real, g double precision,
            h boolean, i date, j timestamp, k timestamptz, l interval,
          m bytea, n json, o jsonb, p int[], q text[], r uuid, s inet, tt point, u mood, v pair, w int4range, x time, y money, z xml,
              "odd ""name"", (it)" text);
        INSERT INTO t SELECT i,
          (ARRAY['plain', '', NULL, 'a "quoted" one', 'back\slash', E'tab\tand\nline\r', '(paren)', 'comma, here', ' blank ',
              E'\u00e9 \U0001F600', E'e\u0301', E'\x0b\x0c', 'NULL', '\N', E'\u00a0', E'\u2028'])[1 + i % 16],
          'v' || i, CASE i % 3 WHEN 0 THEN 'ab' WHEN 1 THEN '' ELSE NULL END, (ARRAY[1.0, 1.00, 'NaN', 1e30, -0.5,
              'Infinity']::numeric[])[1 + i % 6], i / 7.0,
          (ARRAY[0, '-0', 'NaN', '1e-40', 16777217, 'Infinity']::real[])[1 + i % 6], (ARRAY[0, '-0', 'NaN', 0.1, 1e308,
              5e-324]::double precision[])[1 + i % 6], i % 2 = 0,
          date '2024-02-28' + i, timestamp '2024-12-31 23:59:59.999999' + i * interval '1 hour',
              timestamptz '0044-03-15 12:00 BC' + i * interval '1 year', make_interval(months => i, secs => i / 3.0),
          decode(md5(i::text), 'hex'), ('{"b": 1, "a": ' || i || '.10}')::json, ('{"b": 1, "a": ' || i || '.10}')::jsonb, ARRAY[i, NULL,
              -i], ARRAY['', NULL, 'a,b', '"q"'], md5(i::text)::uuid,
          '10.0.0.1', point(i, -i), CASE i % 2 WHEN 0 THEN 'glad'::mood ELSE 'it''s "odd"' END, ROW(i, 'x "y"')::pair, int4range(i,
              i + 5), time '23:59:59.5', 12.5::money, '<a>b</a>', CASE i % 4 WHEN 0 THEN E'\\' ELSE '"' END
        FROM generate_series(1, 3000) i
        """;

    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task A_digest_by_the_server_is_the_same_as_one_of_the_rows_as_they_stream()
    {
        var a = await servers.A.MakeDatabaseAsync();
        await a.RunAsync(Awkward);
        await using var source = a.Source();
        await using var view = await source.OpenViewAsync(0, cancellation);
        var table = (await view.ReadTablesAsync(cancellation)).Single(one => one.Schema.Name.Name == "t").Schema;
        var all = Enumerable.Range(0, table.Columns.Count).ToList();
        var byText = new RowShape(table, all, [1]);
        var byNumber = new RowShape(table, all, [0]);
        var bounds = await view.CutAsync(table, KeySpan.All, 7, cancellation);
        Assert.Equal(6, bounds.Count);
        foreach (
            var (shape, segments) in new[]
            {
                (byNumber, Segments.ByRange(bounds)),
                (byNumber, Segments.ByHash(5)),
                (byText, Segments.ByHash(3)),
                (byNumber, Segments.ByRange([])),
            }
        )
        {
            var expected = new Digest[segments.Count];
            var (rows, keys, hashed) = (new RowHash(TextForm.Instance), new RowHash(TextForm.Instance), new Dictionary<UInt128, int>());
            await foreach (var row in RowsAsync(view, table, KeySpan.All))
            {
                var segment = segments.Of(shape.KeyOf(row), keys.Of(row, shape.Key));
                expected[segment] = expected[segment].With(rows.Of(row, shape.Columns));
                hashed[rows.Of(row, shape.Columns)] = segment;
            }

            Assert.Equal(expected, await view.Digests!.DigestAsync(shape, segments, KeySpan.All, cancellation));
            Assert.Equal(3000, expected.Sum(digest => digest.Count));
            var wanted = new[] { 0, segments.Count - 1 }.Distinct().ToList();
            await foreach (var row in view.Digests!.HashesAsync(shape, segments, wanted, KeySpan.All, cancellation))
            {
                Assert.Contains(hashed[row.Hash], wanted);
                Assert.Equal(segments.Of(row.Key, new RowHash(TextForm.Instance).Of(row.Key, [0])), hashed[row.Hash]);
            }
        }

        var span = new KeySpan(bounds[1], bounds[3]);
        var inside = new List<Row>();
        await foreach (var row in RowsAsync(view, table, span))
        {
            inside.Add(row);
        }

        var found = await view.FindAsync(table, [.. inside.Select(byNumber.KeyOf)], cancellation);
        Assert.Equal(
            inside.Order(Comparer<Row>.Create((x, y) => x.Bytes.Span.SequenceCompareTo(y.Bytes.Span))),
            found.Order(Comparer<Row>.Create((x, y) => x.Bytes.Span.SequenceCompareTo(y.Bytes.Span)))
        );
        Assert.Equal(inside.Count, (await view.Digests!.DigestAsync(byNumber, Segments.ByRange([]), span, cancellation)).Single().Count);
    }

    [Fact]
    public async Task Every_kind_of_difference_is_found_on_the_server_and_nothing_else()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Awkward + "; ALTER TABLE t DROP COLUMN z, DROP COLUMN y");
        await b.RunAsync("CREATE TYPE mood AS ENUM ('glad', 'it''s \"odd\"'); CREATE TYPE pair AS (one int, other text)");
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        var whole = (await crossing.CompareAsync()).Tables.Single();
        Assert.True(whole.IsEqual, whole.Reason);
        var planted = new Dictionary<int, (string Set, string Column)>
        {
            [6] = ("g = '-0'", "g"),
            [7] = ("g = 0", "g"),
            [12] = ("f = '-0'", "f"),
            [10] = ("a = 'comma, here '", "a"),
            [26] = (@"a = 'e' || chr(769)", "a"),
            [33] = ("a = NULL", "a"),
            [34] = ("a = ''", "a"),
            [35] = ("d = 'Infinity'", "d"),
            [36] = ("k = k + interval '1 hour'", "k"),
            [37] = ("n = '{\"a\": 37.10, \"b\": 1}'", "n"),
            [38] = ("o = '{\"b\": 1, \"a\": 38.1000000000000000000000001}'", "o"),
            [39] = ("d = 1.0", "d"),
            [40] = ("e = e + 0.001", "e"),
            [41] = ("m = m || '\\x00'", "m"),
            [42] = ("p = ARRAY[42, NULL]", "p"),
            [43] = ("c = 'x'", "c"),
        };

        // Equal by definition: the same moment in another zone, the same keys of jsonb in another order, padding of fixed-length text.
        await b.RunAsync(
            "UPDATE t SET k = (k AT TIME ZONE 'Asia/Tokyo') AT TIME ZONE 'Asia/Tokyo', o = ('{\"a\": ' || id || '.10, \"b\": "
                + "1}')::jsonb WHERE id > 100; UPDATE t SET c = 'ab  ' WHERE id = 99"
        );
        foreach (var (id, (set, _)) in planted)
        {
            await b.RunAsync($"UPDATE t SET {set} WHERE id = {id}");
        }

        await b.RunAsync(
            "DELETE FROM t WHERE id = 50; INSERT INTO t (id) VALUES (5000); UPDATE t x SET b = y.b FROM t y WHERE (x.id, y.id) IN "
                + "((60, 61), (61, 60))"
        );
        var table = (await crossing.CompareAsync()).Tables.Single();
        Assert.Equal((1, 1), (table.Missing, table.Extra));
        var found = table
            .Rows.Where(row => row.Kind == DifferenceKind.Differing)
            .ToDictionary(row => int.Parse(row.Key.TextAt(0), CultureInfo.InvariantCulture), row => string.Join(',', row.Columns));
        var truth = await Truth(a, b, "id", "t");
        Assert.Equal(truth, found.Keys.Concat([50, 5000]).Order());
        Assert.Equal(("b", "b"), (found[60], found[61]));
        foreach (var (id, columns) in found.Where(pair => pair.Key is not (60 or 61)))
        {
            Assert.Equal(planted[id].Column, columns);
        }
    }

    [Fact]
    public async Task Keys_of_text_of_several_columns_and_none_at_all_are_compared_too()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(
            """
            CREATE TABLE words (w text PRIMARY KEY, n int); INSERT INTO words SELECT md5(i::text), i FROM generate_series(1, 20000) i;
            CREATE TABLE pairs (a int, b bigint, v text, PRIMARY KEY (b, a)); INSERT INTO pairs SELECT i % 100, i / 100, 'v'
                FROM generate_series(1, 20000) i;
            CREATE TABLE loose (v text, n int); ALTER TABLE loose REPLICA IDENTITY FULL; INSERT INTO loose SELECT 'v' || i % 3000,
                i % 7 FROM generate_series(1, 9000) i;
            """
        );
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        var equal = await crossing.CompareAsync();
        Assert.True(equal.IsEqual, string.Join("; ", equal.Tables.Select(table => $"{table.Into} {table.Reason} {table.Rows.Count}")));
        await b.RunAsync(
            """
            UPDATE words SET n = -n WHERE n IN (17, 4711); DELETE FROM words WHERE n = 18;
            UPDATE pairs SET v = 'w' WHERE (b, a) = (7, 7); INSERT INTO pairs VALUES (101, 199, 'extra');
            INSERT INTO loose SELECT v, n FROM loose LIMIT 1; DELETE FROM loose WHERE ctid = (SELECT max(ctid) FROM loose WHERE v = 'v5');
            """
        );
        var found = (await crossing.CompareAsync()).Tables.ToDictionary(table => table.Into.Name);
        Assert.Equal((1L, 0L, 2L), (found["words"].Missing, found["words"].Extra, found["words"].Differing));
        Assert.Equal((0L, 1L, 1L), (found["pairs"].Missing, found["pairs"].Extra, found["pairs"].Differing));
        Assert.Equal((1L, 1L, 0L), (found["loose"].Missing, found["loose"].Extra, found["loose"].Differing));
        Assert.Equal((true, false, true), (found["words"].ByHash, found["pairs"].ByHash, found["loose"].ByHash));
        Assert.Equal("7, 7", IntegerKeys.Display(found["pairs"].Rows.Single(row => row.Kind == DifferenceKind.Differing).Key));
        await a.RunAsync("DELETE FROM loose WHERE v = 'v1'; UPDATE loose SET n = 99 WHERE v = 'v2'");
        var again = (await crossing.CompareAsync()).Tables.Single(table => table.Into.Name == "loose");
        Assert.Equal((1L, 1L), (again.Missing, again.Extra));
    }

    /// <summary>The server's own benchmark (TPC-B) writes meanwhile; VESTIGE_COMPARISONS says how often both sides are compared.</summary>
    [Fact]
    public async Task Under_pgbench_nothing_in_flight_is_a_difference_and_a_damaged_row_is_found_each_time()
    {
        var many = int.Parse(Environment.GetEnvironmentVariable("VESTIGE_COMPARISONS") ?? "12", CultureInfo.InvariantCulture);
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.Cluster.ProgramAsync("pgbench", "-i", "-q", "-s", "1", a.Name);
        await a.RunAsync(
            "CREATE TABLE still (id int PRIMARY KEY, v text); INSERT INTO still SELECT i, 'v' FROM generate_series(1, 10000) i"
        );
        var definition = new CrossingDefinition(
            Crossing.Name,
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules([new TableRule(Take: "public.*")]),
            Apply: [new ApplyRule("*_history", ApplyMode.InsertOnly)]
        );
        await using var crossing = await Crossing.StartAsync(a, b, definition);
        await crossing.FollowsAsync();
        var load = a.Cluster.ProgramAsync(
            "pgbench",
            "-c",
            "3",
            "-T",
            ((many * 2) + 30).ToString(CultureInfo.InvariantCulture),
            "-n",
            "-R",
            "300",
            a.Name
        );
        // So slowly that the accounts are compared in parts.
        await crossing.Engine.Reconcile.SetRuleAsync(Crossing.Name, new ReconcileRule(3600, 20_000), "test", cancellation);
        await crossing.UntilAsync(
            () => crossing.Status.Tables.Single(table => table.Source.Name == "pgbench_accounts").Verdict is { Proved: not null },
            "the proof by parts"
        );
        Assert.Equal(0, crossing.Status.Differences);
        Assert.Empty(await crossing.Engine.Reconcile.ListAsync(Crossing.Name, cancellation));
        await crossing.Engine.Reconcile.SetRuleAsync(Crossing.Name, null, "test", cancellation);
        long inFlight = 0;
        var times = 0;
        for (; times < many && !load.IsCompleted; times++)
        {
            var tables = (await crossing.CompareAsync()).Tables;
            Assert.All(tables.Where(table => table.Into.Name != "pgbench_history"), table =>
                Assert.True(
                    table.IsEqual,
                    $"{table.Into}: {table.Reason} {string.Join("; ", table.Rows.Select(row => $"{row.Kind} {row.Key.DisplayAt(0)}"))}"
                )
            );
            inFlight += tables.Sum(table => table.InFlight);
        }

        Assert.True(inFlight > 0, "Nothing was in flight.");
        for (var i = 0; i < Math.Max(3, many / 10); i++)
        {
            var range = new ComparisonScope(
                [TableName.Parse("public.pgbench_accounts")],
                From: $"{20_000 * i % 90_000}",
                Before: $"{(20_000 * i % 90_000) + 15_000}"
            );
            var part = (await crossing.CompareAsync(range)).Tables.Single();
            Assert.True(
                part.IsEqual && part.Segments.All(segment => segment.State == SegmentState.Equal),
                $"{range.Words}: {part.Reason} {part.Missing} {part.Extra} {part.Differing}"
            );
        }

        await b.RunAsync("UPDATE still SET v = 'damaged' WHERE id = 7777");
        for (var i = 0; i < Math.Max(3, many / 10); i++)
        {
            var found = await crossing.CompareAsync();
            Assert.Equal("7777", Assert.Single(found.Tables.SelectMany(table => table.Rows)).Key.TextAt(0));
        }

        var repair = await crossing.Engine.Reconcile.Repairs.RepairAsync(
            Crossing.Name,
            await crossing.CompareAsync(),
            null,
            delete: false,
            "test",
            cancellation
        );
        Assert.Equal(1, repair.Changed);
        await crossing.SameAsync("still");
        await load;
        TestContext.Current.TestOutputHelper?.WriteLine($"{times} comparisons under load, {inFlight} rows in flight");
    }

    [Fact]
    public async Task Rows_are_repaired_on_the_server_whatever_their_types()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Awkward);
        await b.RunAsync("CREATE TYPE mood AS ENUM ('glad', 'it''s \"odd\"'); CREATE TYPE pair AS (one int, other text)");
        await using var crossing = await Crossing.StartAsync(
            a,
            b,
            new CrossingDefinition(
                Crossing.Name,
                CrossingDefinition.Copy,
                "a",
                "b",
                new TableRules([new TableRule(Take: "public.*")]),
                Treatment: [new TreatmentStep("*") { Mask = [new MaskedColumn("b", MaskMethod.Hash)] }]
            )
        );
        await crossing.FollowsAsync();
        var digest = await b.DigestAsync("t");
        await b.RunAsync(
            "UPDATE t SET a = 'x', m = NULL, v = NULL, b = 'shown' WHERE id % 500 = 0; DELETE FROM t WHERE id % 500 = 1; INSERT INTO "
                + "t (id) VALUES (-5)"
        );
        var found = await crossing.CompareAsync();
        Assert.Equal((6L, 1L, 6L), (found.Tables[0].Missing, found.Tables[0].Extra, found.Tables[0].Differing));
        await crossing.Engine.Reconcile.Repairs.RepairAsync(Crossing.Name, found, null, delete: true, "test", cancellation);
        Assert.Equal(digest, await b.DigestAsync("t"));
        Assert.True((await crossing.CompareAsync()).IsEqual);
    }

    /// <summary>
    /// The server writes 1.5 as 1.50 where two digits are asked for, true as t, and a day as its first moment: that is no difference.
    /// </summary>
    [Fact]
    public async Task What_was_made_or_converted_on_the_way_is_the_same_value_however_the_server_writes_it()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(
            """
            CREATE TABLE t (id int PRIMARY KEY, n int, price numeric, day date, moment timestamptz, weight double precision, code text);
            INSERT INTO t SELECT i, i, i / 8.0, date '2026-01-01' + i, timestamptz '2026-01-01 12:00+02' + i * interval '1 hour',
                i / 3.0, 'c' || i FROM generate_series(1, 500) i;
            """
        );
        TreatmentStep[] steps =
        [
            new TreatmentStep(
                "*",
                Convert:
                [
                    new ConvertedColumn("n", "numeric(12,2)"),
                    new ConvertedColumn("day", "timestamp"),
                    new ConvertedColumn("price", "numeric(9,1)", AllowLoss: true),
                    new ConvertedColumn("id", "bigint"),
                ]
            ),
            new TreatmentStep(
                "*",
                Compute:
                [
                    new ComputedColumn("heavy", "weight > 50"),
                    new ComputedColumn("half", "weight / 2"),
                    new ComputedColumn("third", "n * 1.5"),
                ]
            ),
            new TreatmentStep("*")
            {
                Mask =
                [
                    new MaskedColumn("weight", MaskMethod.Fixed, Value: "5"),
                    new MaskedColumn("code", MaskMethod.Hash),
                    new MaskedColumn("moment", MaskMethod.ShiftDate, Days: 30),
                ],
            },
        ];
        await using var crossing = await Crossing.StartAsync(
            a,
            b,
            new CrossingDefinition(
                Crossing.Name,
                CrossingDefinition.Copy,
                "a",
                "b",
                new TableRules([new TableRule(Take: "public.*")]),
                Treatment: steps
            )
        );
        await crossing.FollowsAsync();
        await a.RunAsync("UPDATE t SET n = n + 1, day = day + 1 WHERE id % 7 = 0");
        await crossing.UntilAsync(() => b.PollAsync("SELECT n FROM t WHERE id = 7").GetAwaiter().GetResult() == "8.00", "the change");
        var table = (await crossing.CompareAsync()).Tables.Single();
        Assert.True(
            table.IsEqual,
            $"{table.Reason} {string.Join("; ", table.Rows.Take(5).Select(row => $"{row.Key.TextAt(0)} {string.Join(',', row.Columns)}"))}"
        );
        Assert.Equal(["price"], table.LeftOut);
        await b.RunAsync(
            "UPDATE t SET n = n + 0.01 WHERE id = 1; UPDATE t SET heavy = NOT heavy WHERE id = 2; UPDATE t SET half = half * (1 + "
                + "2.3e-16) WHERE id = 3; UPDATE t SET third = 0 WHERE id = 4; UPDATE t SET day = day + interval '1 second' WHERE id = "
                + "5; UPDATE t SET code = 'c6' WHERE id = 6"
        );
        var found = (await crossing.CompareAsync()).Tables.Single();
        Assert.Equal(
            ["1 n", "2 heavy", "3 half", "4 third", "5 day", "6 code"],
            found
                .Rows.OrderBy(row => int.Parse(row.Key.TextAt(0), CultureInfo.InvariantCulture))
                .Select(row => $"{row.Key.TextAt(0)} {string.Join(',', row.Columns)}")
        );
    }

    /// <summary>The keys that differ by a full comparison of every row as the server writes it.</summary>
    private static async Task<IEnumerable<int>> Truth(Database a, Database b, string key, string table)
    {
        async Task<HashSet<string>> RowsAsync(Database database) =>
            [.. (await database.AskAsync($"SELECT string_agg({key} || ' ' || md5(t::text), ';') FROM {table} t")).Split(';')];
        var (here, there) = (await RowsAsync(a), await RowsAsync(b));
        return here.Except(there)
            .Concat(there.Except(here))
            .Select(row => int.Parse(row.Split(' ')[0], CultureInfo.InvariantCulture))
            .Distinct()
            .Order();
    }

    private async IAsyncEnumerable<Row> RowsAsync(IRowsView view, TableSchema table, KeySpan span)
    {
        await foreach (var block in view.ReadAsync(table, span, cancellation))
        {
            for (var reader = new ChangeReader(block.Rows); reader.TryRead(out var change);)
            {
                yield return change.After;
            }
        }
    }
}
