using System.Globalization;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>Rows of tables without a key are found by the whole row before: by the bytes of each value, and NULL by itself.</summary>
public sealed class KeylessTests(TwoServers servers)
{
    private const int Changes = 40;

    /// <summary>For each type a table whose only other column says which row it is, so that a change of the wrong row is seen.</summary>
    [Fact]
    public async Task Of_every_type_the_row_that_was_changed_is_changed()
    {
        var seed = int.Parse(
            Environment.GetEnvironmentVariable("VESTIGE_SEED") ?? $"{Random.Shared.Next(100_000)}",
            CultureInfo.InvariantCulture
        );
        TestContext.Current.TestOutputHelper!.WriteLine($"seed {seed}");
        var random = new Random(seed);
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(
            TypeTests.Setup + "CREATE TYPE blank AS ENUM ('', 'word'); CREATE DOMAIN worded AS text; CREATE TYPE pair AS (a text, b text);"
        );
        var values = TypeTests.Values.ToDictionary(pair => pair.Key, pair => pair.Value.ToList());
        values["public.blank"] = ["''", "'word'"];
        values["public.worded"] = ["''", "'word'"];
        values["public.pair"] = ["ROW(NULL, NULL)", "ROW('', NULL)", "ROW('', '')"];
        values["text"].RemoveAll(value => value.StartsWith("repeat", StringComparison.Ordinal));
        values["box"].Add("'(4,1),(0,0)'");
        values["box"].Add("'(1,4),(0,0)'");
        values["real"].Add("0");
        values["double precision"].Add("0");
        values["numeric"].Add("0.00");
        values["public.citext"].AddRange(["'mixed'", "''"]);
        values["name"].Add("''");
        values["tsvector"].Add("''");
        values["public.hstore"].Add("''");
        var tables = new List<string>();
        foreach (var (type, list) in values)
        {
            var table = $"k{tables.Count}";
            tables.Add(table);

            // NULL first: whoever takes it for an empty text meets it before the row that is meant.
            List<string> all =
            [
                .. type == "public.\"Postal Code\"" ? Array.Empty<string>() : ["NULL"],
                .. list.Select(value => $"({value})::{type}"),
            ];
            values[type] = all;

            // The rows of one value differ from those of another in v alone; what tells them apart is changed with the row.
            await a.RunAsync(
                $"CREATE TABLE {table} (v {type}, touched int); ALTER TABLE {table} REPLICA IDENTITY FULL; INSERT INTO {table} VALUES "
                    + $"{string.Join(", ", all.Select(value => $"({value}, 0)"))}"
            );
        }

        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        for (var i = 0; i < Changes; i++)
        {
            var at = random.Next(tables.Count);
            var (type, table) = (values.Keys.ElementAt(at), tables[at]);
            var row = $"(SELECT ctid FROM {table} ORDER BY md5(ctid::text || '{random.Next()}') LIMIT 1)";
            var value = values[type][random.Next(values[type].Count)];
            await a.RunAsync(
                random.Next(4) switch
                {
                    0 => $"DELETE FROM {table} WHERE ctid = {row}",
                    1 => $"INSERT INTO {table} VALUES ({value}, {i})",
                    2 => $"UPDATE {table} SET v = {value} WHERE ctid = {row}",
                    _ => $"UPDATE {table} SET touched = {i + 1} WHERE ctid = {row}",
                }
            );
        }

        // Every row of every type once, in an order of its own.
        foreach (var table in tables)
        {
            await a.RunAsync(
                $"DO $$ DECLARE c tid; BEGIN FOR c IN SELECT ctid FROM {table} ORDER BY md5(ctid::text || '{random.Next()}') LOOP "
                    + $"UPDATE {table} SET touched = touched + 1000 WHERE ctid = c; END LOOP; END $$"
            );
        }

        await crossing.SameAsync([.. tables]);
        Assert.All(crossing.Status.Tables, table => Assert.Equal(0, table.Tally.Unexpected.Total));
    }

    /// <summary>Of an update that changes nothing, a large value that stays is not in the log, and nothing is left to set.</summary>
    [Fact]
    public async Task An_update_that_sets_nothing_is_no_fault()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(
            """
            CREATE TABLE t (x text); ALTER TABLE t ALTER x SET STORAGE EXTERNAL; ALTER TABLE t REPLICA IDENTITY FULL;
            INSERT INTO t VALUES (repeat('large ', 5000)), ('small');
            """
        );
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await a.RunAsync("UPDATE t SET x = x");
        await a.RunAsync("INSERT INTO t VALUES ('goes on')");
        await crossing.SameAsync("t");
        Assert.Null(crossing.Status.Fault);
    }
}
