using System.Diagnostics;
using System.Text.RegularExpressions;
using Npgsql;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// Schema changes that nobody here wrote: the statements of <c>alter_table</c> of PostgreSQL's own regression tests, one by one, while a
/// crossing follows. After each, every table that it names is the same on both sides, or is held with its cause. VESTIGE_REGRESSION names
/// the unpacked source (tests/fetch-regression); without it there is nothing to do.
/// </summary>
public sealed partial class SchemaSuiteTests(ITestOutputHelper output)
{
    /// <summary>A change without rows is found at the next look at the catalogue.</summary>
    private static readonly TimeSpan FoundWithin = TimeSpan.FromSeconds(60);
    private const int AllEvery = 100;
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Theory]
    [InlineData(SchemaChangeAction.Carry, false)]
    [InlineData(SchemaChangeAction.Carry, true)]
    [InlineData(SchemaChangeAction.Reload, false)]
    public async Task After_each_statement_tables_are_equal_or_held(SchemaChangeAction action, bool isRecorded)
    {
        var folder = Environment.GetEnvironmentVariable("VESTIGE_REGRESSION") ?? "";
        Assert.SkipWhen(folder.Length == 0, "VESTIGE_REGRESSION is not set");
        var sql = Path.Combine(folder, "src", "test", "regress", "sql");
        await using var from = await Cluster.StartAsync();
        await using var to = await Cluster.StartAsync();
        var (a, b) = (await from.MakeDatabaseAsync("regression"), await to.MakeDatabaseAsync("copy"));
        await a.RunAsync("CREATE TABLE public.zz_mark (id int PRIMARY KEY); INSERT INTO public.zz_mark VALUES (0)");
        await using var connection = await a.OpenAsync();
        foreach (var statement in SqlScript.StatementsOf(await File.ReadAllTextAsync(Path.Combine(sql, "test_setup.sql"), cancellation)))
        {
            await TryAsync(connection, statement);
        }

        await IdentifyAsync(a);
        await (isRecorded ? a.RecordSchemaChangesAsync() : Task.CompletedTask);
        var definition = new CrossingDefinition(
            Crossing.Name,
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules(
                [new TableRule(Take: "*.*"), .. (await OthersAsync(a)).Select(name => new TableRule(Leave: name))],
                Future: true
            ),
            Quarantine: new QuarantineRule(Rows: 1000),
            SchemaChanges:
            [
                new SchemaChangeRule("*", action),
                new SchemaChangeRule("*", SchemaChangeAction.Carry, [SchemaChangeKind.ColumnDropped, SchemaChangeKind.NullabilityChanged]),
            ]
        );
        await using var crossing = await Crossing.DefineAsync(a, b, definition, TimeSpan.FromMilliseconds(300));
        await crossing.Engine.RunAsync(Crossing.Name, "test", cancellation);
        await crossing.FollowsAsync();
        var (run, refused, compared, held, open) = (0, 0, 0, new HashSet<string>(), false);
        foreach (var statement in SqlScript.StatementsOf(await File.ReadAllTextAsync(Path.Combine(sql, "alter_table.sql"), cancellation)))
        {
            run++;
            refused += await TryAsync(connection, statement) ? 0 : 1;
            open = Ends().IsMatch(statement) ? false : open || Begins().IsMatch(statement);
            if (open)
            {
                continue;
            }

            if (Made().Match(statement) is { Success: true } made)
            {
                await IdentifyAsync(a);
                await KnownAsync(crossing, made.Groups["name"].Value.ToLowerInvariant());
            }

            await MarkAsync(a, b, run);
            var named = Words().Matches(statement).Select(match => match.Value.ToLowerInvariant()).ToHashSet();
            foreach (var table in await TablesAsync(a, run % AllEvery == 0 ? null : named))
            {
                compared++;
                await EqualOrHeldAsync(crossing, a, b, table, statement, held);
            }
        }

        output.WriteLine(
            $"{action}{(isRecorded ? ", recorded" : "")}: {run} statements, {refused} of them refused by the server; {compared} "
                + $"comparisons; {held.Count} tables held at some time: {string.Join(", ", held.Order())}"
        );
        Assert.Null(crossing.Status.Fault);
        Assert.True(compared > 500, $"{compared} comparisons");
    }

    /// <summary>Tables without a key are found by the whole row.</summary>
    private static Task IdentifyAsync(Database a) =>
        a.RunAsync(
            "DO $$ DECLARE t regclass; BEGIN FOR t IN SELECT c.oid FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
                + "WHERE c.relkind IN ('r', 'p') AND c.relreplident = 'd' AND n.nspname !~ '^(pg_|information_schema)' AND NOT EXISTS "
                + "(SELECT FROM pg_index i WHERE i.indrelid = c.oid AND i.indisprimary) LOOP EXECUTE format('ALTER TABLE %s REPLICA "
                + "IDENTITY FULL', t); END LOOP; END $$"
        );

    /// <summary>What other tests need; two tables of it are changed here.</summary>
    private static async Task<IEnumerable<string>> OthersAsync(Database a) =>
        (await TablesAsync(a, null)).Select(table => $"{table}").Except(["public.zz_mark", "public.onek", "public.tenk1"]);

    /// <summary>A table that was made is taken by the rules, or cannot cross; that is not told.</summary>
    private async Task KnownAsync(Crossing crossing, string name)
    {
        var watch = Stopwatch.StartNew();
        while (
            watch.Elapsed < TimeSpan.FromSeconds(2)
            && !crossing.Status.Tables.Any(table => table.Source.Name == name && table.State is TableState.Following or TableState.Held)
        )
        {
            await Task.Delay(50, cancellation);
        }
    }

    private static async Task<bool> TryAsync(NpgsqlConnection connection, string statement)
    {
        try
        {
            await using var batch = new NpgsqlBatch(connection) { BatchCommands = { new NpgsqlBatchCommand(statement) } };
            await batch.ExecuteNonQueryAsync();
            return true;
        }
        catch (PostgresException)
        {
            // Half of the script is what the server is to refuse.
            return false;
        }
    }

    /// <summary>All that was committed before has arrived when the mark has.</summary>
    private static async Task MarkAsync(Database a, Database b, int number)
    {
        await a.RunAsync($"UPDATE public.zz_mark SET id = {number}");
        var watch = Stopwatch.StartNew();
        while (await b.PollAsync("SELECT id FROM public.zz_mark") != $"{number}")
        {
            Assert.True(watch.Elapsed < FoundWithin, $"statement {number} does not arrive");
            await Task.Delay(10);
        }
    }

    private static async Task<IReadOnlyList<TableName>> TablesAsync(Database a, HashSet<string>? named)
    {
        var all = await a.AskAsync(
            "SELECT coalesce(string_agg(n.nspname || E'\\t' || c.relname, E'\\n'), '') FROM pg_class c JOIN pg_namespace n ON n.oid = "
                + "c.relnamespace WHERE c.relkind = 'r' AND c.relpersistence = 'p' AND NOT c.relispartition AND n.nspname !~ "
                + "'^(pg_|information_schema|vestige)' AND NOT EXISTS (SELECT FROM pg_inherits i WHERE i.inhparent = c.oid)"
        );
        return
        [
            .. all.Split('\n', StringSplitOptions.RemoveEmptyEntries)
                .Select(line => line.Split('\t'))
                .Select(parts => new TableName(parts[0], parts[1]))
                .Where(table => named?.Contains(table.Name) != false),
        ];
    }

    /// <summary>A table may be gone, another or not of the crossing yet by the time it is looked at.</summary>
    private async Task EqualOrHeldAsync(Crossing crossing, Database a, Database b, TableName table, string statement, HashSet<string> held)
    {
        var watch = Stopwatch.StartNew();
        while (true)
        {
            var status = crossing.Status.Tables.FirstOrDefault(one => one.Source == table);
            if (status is null || status.State == TableState.Held)
            {
                _ = status is null || held.Add($"{table}");
                return;
            }

            var (here, there) = (await DigestAsync(a, table), await DigestAsync(b, table));
            if (here is null || here == there)
            {
                return;
            }

            if (watch.Elapsed > FoundWithin)
            {
                Assert.Fail(
                    $"{table} is {status.State} and differs after: {statement}\nhere  {here}\nthere {there}\n"
                        + string.Join('\n', crossing.Said.TakeLast(20))
                );
            }

            await Task.Delay(100, cancellation);
        }
    }

    /// <summary>The rows with the names of their columns; null where there is no such table.</summary>
    private static async Task<string?> DigestAsync(Database database, TableName table)
    {
        try
        {
            return await database.AskAsync(
                "SELECT count(*) || ' ' || coalesce(md5(string_agg(to_jsonb(t)::text, E'\\n' ORDER BY to_jsonb(t)::text COLLATE \"C\")), "
                    + $"'') FROM ONLY {Quote.Name(table)} t"
            );
        }
        catch (PostgresException exception) when (exception.SqlState is "42P01" or "3F000")
        {
            return null;
        }
    }

    [GeneratedRegex(
        "^create table (if not exists )?([a-z_0-9]+[.])?(?<name>[a-z_0-9]+)",
        RegexOptions.IgnoreCase | RegexOptions.ExplicitCapture,
        matchTimeoutMilliseconds: 1000
    )]
    private static partial Regex Made();

    [GeneratedRegex(
        "^(begin|start transaction)\\b",
        RegexOptions.IgnoreCase | RegexOptions.ExplicitCapture,
        matchTimeoutMilliseconds: 1000
    )]
    private static partial Regex Begins();

    [GeneratedRegex(
        "^(commit|end|abort|rollback(?! to))\\b",
        RegexOptions.IgnoreCase | RegexOptions.ExplicitCapture,
        matchTimeoutMilliseconds: 1000
    )]
    private static partial Regex Ends();

    [GeneratedRegex("[A-Za-z_][A-Za-z_0-9]*", RegexOptions.None, matchTimeoutMilliseconds: 1000)]
    private static partial Regex Words();
}
