using System.Globalization;
using Npgsql;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Engine.Commands;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// The tables that the regression tests of PostgreSQL's own source make, which nobody here wrote: each loads and follows, or is refused
/// for a stated reason. VESTIGE_REGRESSION names the unpacked source (tests/fetch-regression); without it there is nothing to do.
/// </summary>
public sealed class RegressionSuiteTests(ITestOutputHelper output)
{
    private const int ChangesPerTable = 6;

    /// <summary>They need what is not here (a folder for tablespaces, other databases), or leave nothing behind.</summary>
    private static readonly string[] NotRun =
    [
        "tablespace",
        "database",
        "subscription",
        "stats",
        "sysviews",
        "psql",
        "psql_crosstab",
        "opr_sanity",
        "type_sanity",
        "misc_sanity",
        "oidjoins",
        "lock",
        "select_parallel",
        "write_parallel",
        "vacuum_parallel",
    ];
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task Every_table_loads_and_follows_or_is_refused_for_a_reason()
    {
        var folder = Environment.GetEnvironmentVariable("VESTIGE_REGRESSION") ?? "";
        Assert.SkipWhen(folder.Length == 0, "VESTIGE_REGRESSION is not set");
        var seed = int.Parse(
            Environment.GetEnvironmentVariable("VESTIGE_SEED") ?? $"{Random.Shared.Next(100_000)}",
            CultureInfo.InvariantCulture
        );
        output.WriteLine($"seed {seed}");
        await using var from = await Cluster.StartAsync("max_prepared_transactions=2");
        await using var to = await Cluster.StartAsync();
        var (a, b) = (await from.MakeDatabaseAsync("regression"), await to.MakeDatabaseAsync("copy"));
        await MakeTablesAsync(a, Path.Combine(folder, "src", "test", "regress"));

        // Most have no key: they are found by the whole row then.
        await a.RunAsync(
            "DO $$ DECLARE t regclass; BEGIN FOR t IN SELECT c.oid FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
                + "WHERE c.relkind IN ('r', 'p') AND n.nspname !~ '^(pg_|information_schema)' AND NOT EXISTS (SELECT FROM pg_index i "
                + "WHERE i.indrelid = c.oid AND i.indisprimary) LOOP EXECUTE format('ALTER TABLE %s REPLICA IDENTITY FULL', t); END "
                + "LOOP; END $$"
        );
        var rules = new TableRules([new TableRule(Take: "*.*")]);
        var definition = new CrossingDefinition(Crossing.Name, CrossingDefinition.Copy, "a", "b", rules);
        await using var crossing = await Crossing.DefineAsync(a, b, definition);
        var (plan, refused) = (await crossing.Engine.PlanAsync(definition, cancellation), new List<(string Table, string Reason)>());
        while (Refused(plan) is { Count: > 0 } more)
        {
            // Of several tables that lack the same thing a plan names one; without that it names the next.
            refused.AddRange(more);
            definition = definition with
            {
                Tables = new TableRules([.. rules.Rules, .. refused.Select(table => new TableRule(Leave: table.Table))]),
                Quarantine = new QuarantineRule(Rows: 1000),
            };
            await crossing.Engine.DefineAsync(definition, "test", cancellation);
            plan = await crossing.Engine.PlanAsync(definition, cancellation);
        }

        Assert.All(refused, table => Assert.False(string.IsNullOrWhiteSpace(table.Reason)));
        foreach (var reason in refused.GroupBy(table => table.Reason))
        {
            output.WriteLine($"refused, {reason.Key}: {string.Join(", ", reason.Select(table => table.Table))}");
        }

        Assert.True(plan.Ready, string.Join("\n", plan.Checks.Where(line => !line.Ok).Select(line => $"{line.Step}: {line.Found}")));
        await crossing.Engine.RunAsync(Crossing.Name, "test", cancellation);
        await crossing.FollowsAsync();
        var tables = plan.Tables.Select(table => $"ONLY {Quote.Name(table.Source)}").ToList();
        output.WriteLine($"{tables.Count} tables cross, {refused.Count} are refused");
        await ChangeAsync(a, tables, new Random(seed));
        await a.RunAsync("CREATE TABLE last_of_all (id int PRIMARY KEY)");
        await crossing.UntilAsync(() => crossing.Status.Lag is { Current: true }, "all changes being applied");
        Assert.Null(crossing.Status.Fault);
        Assert.All(crossing.Status.Tables, table =>
            Assert.True(
                table.State == TableState.Following && table.Quarantined == 0,
                $"{table.Source}: {table.State}, {table.Cause}, {table.Quarantined} in quarantine"
            )
        );
        foreach (var table in tables)
        {
            var name = table.Replace("ONLY ", "", StringComparison.Ordinal);
            var isPartitioned =
                await a.AskAsync(
                    $"SELECT relkind FROM pg_class WHERE oid = '{name.Replace("'", "''", StringComparison.Ordinal)}'::regclass"
                ) == "p";
            Assert.Equal($"{name} {await a.DigestAsync(isPartitioned ? name : table)}", $"{name} {await b.DigestAsync(name)}");
        }

        Assert.True(tables.Count > 200, $"{tables.Count} tables");
    }

    /// <summary>Tables that cannot cross, and those of which the target lacks something.</summary>
    private static List<(string Table, string Reason)> Refused(CrossingPlan plan)
    {
        var refused = plan.LeftOut.Select(table => (table.Source.ToString(), table.Reason ?? "")).ToList();
        foreach (var line in plan.Checks.Where(line => !line.Ok))
        {
            var named = plan.Tables.Where(table =>
                line.Step == $"table {table.Source}"
                || line.Step == $"target table {table.Source}"
                || line.Found.EndsWith($" of {table.Source} uses it", StringComparison.Ordinal)
                || line.Found.EndsWith($" {table.Source} uses it", StringComparison.Ordinal)
                || line.Found.Contains($"; {table.Source}.", StringComparison.Ordinal)
                || line.Found == $"no column of {table.Source} is left"
            );
            refused.AddRange(named.Select(table => (table.Source.ToString(), $"{line.Step}: {line.Found}")));
        }

        return [.. refused.DistinctBy(table => table.Item1)];
    }

    private static async Task MakeTablesAsync(Database database, string regress)
    {
        var schedule = (await File.ReadAllLinesAsync(Path.Combine(regress, "parallel_schedule")))
            .Where(line => line.StartsWith("test:", StringComparison.Ordinal))
            .SelectMany(line => line[5..].Split(' ', StringSplitOptions.RemoveEmptyEntries));
        foreach (var test in schedule.Except(NotRun))
        {
            await Cluster.RunAsync(
                "sh",
                "-c",
                $"cd '{regress}' && PG_ABS_SRCDIR='{regress}' PG_ABS_BUILDDIR='{regress}' PG_LIBDIR=/nowhere PG_DLSUFFIX=.so "
                    + "PGTZ=America/Los_Angeles PGDATESTYLE='Postgres, MDY' timeout 60 psql -X -q -h 127.0.0.1 -p "
                    + $"{database.Cluster.Port} -U {Cluster.Dba} -d {database.Name} -f 'sql/{test}.sql' >/dev/null 2>&1 || true"
            );
        }
    }

    /// <summary>
    /// Rows are doubled, deleted and updated at random, one statement a transaction; what the table itself refuses is left.
    /// </summary>
    private static async Task ChangeAsync(Database database, List<string> tables, Random random)
    {
        await using var connection = await database.OpenAsync();
        for (var i = 0; i < tables.Count * ChangesPerTable; i++)
        {
            var table = tables[random.Next(tables.Count)];
            var some = $"(SELECT ctid FROM {table} ORDER BY md5(ctid::text || '{random.Next()}') LIMIT {random.Next(1, 4)})";
            var name = table.Replace("ONLY ", "", StringComparison.Ordinal);
            var column = await ColumnAsync(connection, name, random);
            var statement = random.Next(3) switch
            {
                0 => $"DELETE FROM {table} WHERE ctid IN {some}",
                1 => $"INSERT INTO {name} SELECT * FROM {table} WHERE ctid IN {some}",
                _ => $"UPDATE {table} SET {column} = (SELECT {column} FROM {table} ORDER BY md5(ctid::text || '{random.Next()}') LIMIT "
                    + $"1) WHERE ctid IN {some}",
            };
            try
            {
                await using var command = new NpgsqlCommand(statement, connection) { CommandTimeout = 60 };
                await command.ExecuteNonQueryAsync();
            }
            catch (PostgresException)
            {
                // A key, a check or a trigger of the table refuses it.
            }
        }
    }

    private static async Task<string> ColumnAsync(NpgsqlConnection connection, string table, Random random)
    {
        await using var command = new NpgsqlCommand(
            "SELECT quote_ident(attname) FROM pg_attribute WHERE attrelid = $1::regclass AND attnum > 0 AND NOT attisdropped AND "
                + $"attgenerated = '' ORDER BY md5(attname || '{random.Next()}') LIMIT 1",
            connection
        );
        command.Parameters.Add(PostgreSqlDatabase.Text(table));
        return await command.ExecuteScalarAsync() as string ?? "ctid";
    }
}
