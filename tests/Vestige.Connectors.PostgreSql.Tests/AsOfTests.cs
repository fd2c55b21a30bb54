using System.Globalization;
using System.Text.RegularExpressions;
using Npgsql;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// Rows as they were at a place in the past, while the source is written to. They are checked against digests that the server computed
/// then, and against a replay of what its own decoder for tests says of the log (PostgreSQL manual, test_decoding).
/// </summary>
public sealed partial class AsOfTests(TwoServers servers)
{
    private const string Past = "past";
    private const string Tables = """
        CREATE TABLE t (id int PRIMARY KEY, u int UNIQUE, v text, big text);
        CREATE TABLE c (id int PRIMARY KEY, t int REFERENCES t ON UPDATE CASCADE ON DELETE CASCADE, w numeric(9,2));
        ALTER TABLE t REPLICA IDENTITY FULL; ALTER TABLE c REPLICA IDENTITY FULL;
        """;

    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    /// <summary>A few seeds; as many as there are kills in the full proofs.</summary>
    public static TheoryData<int> Seeds { get; } =
        [.. Enumerable.Range(1, int.Parse(Environment.GetEnvironmentVariable("VESTIGE_KILLS") ?? "2", CultureInfo.InvariantCulture))];

    [Theory]
    [MemberData(nameof(Seeds))]
    public async Task Rows_of_the_past_are_those_that_were_there(int seed)
    {
        var random = new Random(seed);
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Tables);
        var slot = $"peek_{a.Name}";
        await a.AskAsync($"SELECT pg_create_logical_replication_slot('{slot}', 'test_decoding')");
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        var places = new List<(string Position, string Time, string T, string C)>();
        for (var i = 0; i < 150; i++)
        {
            await RowWalk.TryAsync(a, RowWalk.Transaction(random));
            if (i % 40 == 20)
            {
                places.Add(
                    (
                        await a.AskAsync("SELECT pg_current_wal_insert_lsn()::text"),
                        await a.AskAsync("SELECT to_char(clock_timestamp() AT TIME ZONE 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS.US\"Z\"')"),
                        await a.DigestAsync("t"),
                        await a.DigestAsync("c")
                    )
                );
            }
        }

        await crossing.SameAsync("t", "c");
        using var ending = new CancellationTokenSource();
        var writing = WriteAsync(a, random.Next(), ending.Token);
        foreach (var (position, time, t, c) in places)
        {
            var byTime = random.Next(2) == 0;
            var place = byTime
                ? new StartPlace(Time: DateTimeOffset.Parse(time, CultureInfo.InvariantCulture))
                : new StartPlace(position);
            await BringAsync(crossing, place, isCut: random.Next(2) == 0);
            var what = $"seed {seed}, as of {(byTime ? time : position)}";
            Assert.True(t == await b.DigestAsync("past.t"), what);
            Assert.True(c == await b.DigestAsync("past.c"), what);
            Assert.Equal(await ReplayAsync(a, slot, position), await RowsAsync(b));
            await crossing.Engine.RemoveAsync(Past, "test", cancellation);
            await b.RunAsync("DROP SCHEMA past CASCADE");
        }

        await ending.CancelAsync();
        await writing;
        await crossing.SameAsync("t", "c");
        await a.AskAsync($"SELECT pg_drop_replication_slot('{slot}')");
    }

    /// <summary>Each is said before anything is loaded.</summary>
    [Theory]
    [InlineData("ALTER TABLE t REPLICA IDENTITY DEFAULT; UPDATE t SET v = 'x'", "logged only the key")]
    [InlineData("TRUNCATE t, c", "it was truncated")]
    [InlineData("ALTER TABLE t ADD z int; UPDATE t SET z = 1", "its schema was changed")]
    public async Task What_cannot_be_told_is_refused(string statements, string why)
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync($"{Tables} INSERT INTO t SELECT i, i, 'v' FROM generate_series(1, 5) i");
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await a.RunAsync("UPDATE t SET v = 'before'");
        await crossing.SameAsync("t", "c");
        var position = await a.AskAsync("SELECT pg_current_wal_insert_lsn()::text");
        await a.RunAsync(statements);
        await a.RunAsync("INSERT INTO t (id, v) VALUES (99, 'after')");
        await crossing.SameAsync("t", "c");
        var plan = await crossing.Engine.PlanAsync(Definition(new StartPlace(position)), cancellation);
        var wrong = Assert.Single(plan.Checks, check => check is { Ok: false, Step: "changes of public.t" });
        Assert.Contains(why, wrong.Found, StringComparison.Ordinal);
        var later = await a.AskAsync("SELECT pg_current_wal_insert_lsn()::text");
        await crossing.UntilAsync(() => IsReady(crossing, Definition(new StartPlace(later))), "a place after it");
    }

    /// <summary>A change made while nothing was read is noted before the first row, and rows of the earlier form follow it.</summary>
    [Fact]
    public async Task Rows_of_two_forms_are_refused_though_the_change_was_told_before_them()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync($"{Tables} INSERT INTO t SELECT i, i, 'v' FROM generate_series(1, 5) i");
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        TableName[] both = [new("public", "t"), new("public", "c")];
        await crossing.UntilAsync(
            () => crossing.Engine.Positions.HeldSinceAsync("a", both, cancellation).GetAwaiter().GetResult() is not null,
            "every change to be held"
        );
        await crossing.EndAsync();
        await a.RunAsync("UPDATE t SET v = 'one'");
        var told = await a.AskAsync("SELECT pg_current_wal_insert_lsn()::text");
        await a.RunAsync("UPDATE t SET v = 'two'");
        await a.RunAsync("ALTER TABLE t ADD z int");
        await a.RunAsync("UPDATE t SET z = 1");
        await crossing.BeginAsync();
        await crossing.SameAsync("t");
        var plan = await crossing.Engine.PlanAsync(Definition(new StartPlace(told)), cancellation);
        var wrong = Assert.Single(plan.Checks, check => check is { Ok: false, Step: "changes of public.t" });
        Assert.Contains("column", wrong.Found, StringComparison.Ordinal);
    }

    private bool IsReady(Crossing crossing, CrossingDefinition definition) =>
        crossing.Engine.PlanAsync(definition, cancellation).GetAwaiter().GetResult().Ready;

    private async Task BringAsync(Crossing crossing, StartPlace place, bool isCut)
    {
        var definition = Definition(place);
        await crossing.UntilAsync(() => IsReady(crossing, definition), "the place to be held");
        await crossing.Engine.DefineAsync(definition, "test", cancellation);
        await crossing.Engine.RunAsync(Past, "test", cancellation);
        if (isCut)
        {
            await Task.Delay(100, cancellation);
            await crossing.EndAsync();
            await crossing.BeginAsync();
        }

        await crossing.UntilAsync(
            () =>
                crossing.Engine.Status(Past) is { } status
                && (status.Fault is { } fault ? throw new InvalidOperationException(fault.What) : status.State == CrossingState.Finished),
            "the rows of the past"
        );
    }

    private static CrossingDefinition Definition(StartPlace asOf) =>
        new(
            Past,
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules([new TableRule(Take: "public.*")]),
            new StartOptions(Kind: StartKind.Rows, AsOf: asOf),
            Naming: new Naming(Into: "past")
        );

    private static async Task WriteAsync(Database a, int seed, CancellationToken ending)
    {
        var random = new Random(seed);
        while (!ending.IsCancellationRequested)
        {
            await RowWalk.TryAsync(a, RowWalk.Transaction(random));
        }
    }

    /// <summary>The rows of both tables that the server's decoder leads to, up to a position.</summary>
    private static async Task<string> ReplayAsync(Database a, string slot, string upTo)
    {
        var rows = new SortedDictionary<string, SortedDictionary<int, string[]>>(StringComparer.Ordinal) { ["c"] = [], ["t"] = [] };
        await using var connection = await a.OpenAsync();
        await using var command = new NpgsqlCommand(
            $"SELECT data FROM pg_logical_slot_peek_changes('{slot}', '{upTo}', NULL, 'skip-empty-xacts', '1')",
            connection
        );
        await using var reader = await command.ExecuteReaderAsync();
        while (await reader.ReadAsync())
        {
            if (Change().Match(reader.GetString(0)) is { Success: true } change)
            {
                Replay(rows[change.Groups["table"].Value], change);
            }
        }

        return Text(rows);
    }

    private static void Replay(SortedDictionary<int, string[]> rows, Match change)
    {
        var old = Values(change.Groups["old"].Value);
        var now = Values(change.Groups["new"].Value);
        if (change.Groups["kind"].Value == "DELETE")
        {
            rows.Remove(int.Parse(now[0], CultureInfo.InvariantCulture));
            return;
        }

        var before = old.Length > 0 ? old : now;
        var known = rows.GetValueOrDefault(int.Parse(before[0], CultureInfo.InvariantCulture));
        rows.Remove(int.Parse(before[0], CultureInfo.InvariantCulture));
        rows[int.Parse(now[0], CultureInfo.InvariantCulture)] =
        [
            .. now.Select((value, i) => value == "unchanged-toast-datum" ? known![i] : value),
        ];
    }

    private static string[] Values(string tuple) =>
        [
            .. Value()
                .Matches(tuple)
                .Select(match => match.Groups["value"].Value)
                .Select(value => value[0] == '\'' ? value[1..^1].Replace("''", "'", StringComparison.Ordinal) : value),
        ];

    private static async Task<string> RowsAsync(Database b)
    {
        var rows = new SortedDictionary<string, SortedDictionary<int, string[]>>(StringComparer.Ordinal) { ["c"] = [], ["t"] = [] };
        await using var connection = await b.OpenAsync();
        foreach (var table in new[] { "t", "c" })
        {
            await using var command = new NpgsqlCommand($"SELECT * FROM past.{table}", connection);
            await using var reader = await command.ExecuteReaderAsync();
            while (await reader.ReadAsync())
            {
                rows[table][reader.GetInt32(0)] =
                [
                    .. Enumerable
                        .Range(0, reader.FieldCount)
                        .Select(i => reader.IsDBNull(i) ? "null" : Convert.ToString(reader.GetValue(i), CultureInfo.InvariantCulture)!),
                ];
            }
        }

        return Text(rows);
    }

    private static string Text(SortedDictionary<string, SortedDictionary<int, string[]>> rows) =>
        string.Join('\n', rows.SelectMany(table => table.Value.Values.Select(row => $"{table.Key} {string.Join('|', row)}")));

    [GeneratedRegex(
        @"^table public\.(?<table>\w+): (?<kind>\w+): (?:old-key: (?<old>.*) new-tuple: )?(?<new>.*)$",
        RegexOptions.ExplicitCapture | RegexOptions.Singleline,
        matchTimeoutMilliseconds: 5000
    )]
    private static partial Regex Change();

    [GeneratedRegex(
        @"\w+\[[^\]]+\]:(?<value>'([^']|'')*'|\S+)",
        RegexOptions.ExplicitCapture | RegexOptions.Singleline,
        matchTimeoutMilliseconds: 5000
    )]
    private static partial Regex Value();
}
