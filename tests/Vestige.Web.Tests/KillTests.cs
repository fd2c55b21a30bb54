using Microsoft.Data.Sqlite;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>
/// A real process, killed with kill -9 at random moments of loading and following while its workload runs. Then both
/// database files are compared by SQLite. VESTIGE_KILLS sets how often, VESTIGE_SEED the moments.
/// </summary>
public class KillTests(ITestOutputHelper output)
{
    private const string Crossing = "circulation-to-warehouse";

    [Fact]
    public async Task Killed_at_any_moment_the_copy_ends_equal()
    {
        var many = Environment.GetEnvironmentVariable("VESTIGE_KILLS");
        var (kills, loans) = (int.Parse(many ?? "6"), many is null ? "20000" : "60000");
        var seed = int.Parse(Environment.GetEnvironmentVariable("VESTIGE_SEED") ?? "20261");
        output.WriteLine($"seed {seed}, {kills} kills");
        var random = new Random(seed);
        await using var vestige = await RunningVestige.StartAsync("--demo-loans", loans, "--demo-states", "false");
        for (var i = 0; i < kills; i++)
        {
            // Every third time all is loaded again, so that kills meet loads as well.
            if (i % 3 == 2)
            {
                await vestige.PostAsync($"/api/v1/crossings/{Crossing}/reload");
            }

            await Task.Delay(random.Next(20, 900), TestContext.Current.CancellationToken);
            vestige.Kill();
            await vestige.LaunchAsync();
        }

        await vestige.WaitAsync(Crossing, status => status.GetProperty("state").GetString() == "following", "following");
        var (code, answer) = await vestige.PostAsync(
            $"/api/v1/crossings/{Crossing}/stop",
            new { manner = "drain", mark = new { asOfNow = true } }
        );
        Assert.True(code == System.Net.HttpStatusCode.OK, answer.ToString());
        await vestige.WaitAsync(Crossing, status => status.GetProperty("state").GetString() == "stopped", "stopped");
        var mark = ulong.Parse((await vestige.StatusAsync(Crossing)).GetProperty("positions").GetProperty("applied").GetString()!);
        vestige.Kill();
        Undo(vestige.Data, mark);
        Assert.Equal(Digest(vestige.Data, "circulation"), Digest(vestige.Data, "warehouse"));
    }

    /// <summary>The source has moved on since the mark: its own log takes it back, row by row.</summary>
    private static void Undo(string data, ulong mark)
    {
        using var connection = Open(data, "circulation");
        var log = new Vestige.Core.Positions.LogPosition(mark);
        Execute(connection, "PRAGMA foreign_keys = OFF");
        foreach (var (table, change) in Backwards(connection, log))
        {
            var columns = table.Columns.Select(column => $"\"{column.Name}\"").ToList();
            var row = change.After.IsNone ? change.Before : change.After;
            var where = string.Join(" AND ", table.KeyOrdinals.Select(i => $"{columns[i]} = {Literal(row, i)}"));
            Execute(connection, $"DELETE FROM \"{table.Name.Name}\" WHERE {where}");
            if (!change.Before.IsNone)
            {
                Execute(
                    connection,
                    $"INSERT INTO \"{table.Name.Name}\" VALUES "
                        + $"({string.Join(", ", Enumerable.Range(0, change.Before.Count).Select(i => Literal(change.Before, i)))})"
                );
            }
        }
    }

    private static IEnumerable<(Core.Schemas.TableSchema Table, Core.Changes.RowChange Change)> Backwards(
        SqliteConnection connection,
        Core.Positions.LogPosition mark
    )
    {
        var relations = new Dictionary<int, Core.Schemas.TableSchema>();
        using (var command = connection.CreateCommand())
        {
            command.CommandText = "SELECT number, body FROM vestige_relation";
            using var reader = command.ExecuteReader();
            while (reader.Read())
            {
                relations[reader.GetInt32(0)] = System.Text.Json.JsonSerializer.Deserialize<Core.Schemas.TableSchema>(reader.GetString(1))!;
            }
        }

        var changes = new List<(Core.Schemas.TableSchema, Core.Changes.RowChange)>();
        using var log = connection.CreateCommand();
        log.CommandText = "SELECT body FROM vestige_log WHERE position > $mark ORDER BY position, part";
        log.Parameters.AddWithValue("$mark", (long)mark.Offset);
        using var bodies = log.ExecuteReader();
        while (bodies.Read())
        {
            var reader = new Core.Changes.ChangeReader(bodies.GetFieldValue<byte[]>(0));
            while (reader.TryRead(out var change))
            {
                changes.Add((relations[change.Relation], change));
            }
        }

        changes.Reverse();
        return changes;
    }

    private static string Literal(Core.Changes.Row row, int column) =>
        row.KindAt(column) switch
        {
            Core.Changes.ValueKind.Text => "'" + row.TextAt(column).Replace("'", "''", StringComparison.Ordinal) + "'",
            _ => row.DisplayAt(column),
        };

    /// <summary>Every row of every table as SQLite's quote() writes it, in key order, hashed.</summary>
    private static string Digest(string data, string database)
    {
        using var connection = Open(data, database);
        using var hash = System.Security.Cryptography.IncrementalHash.CreateHash(System.Security.Cryptography.HashAlgorithmName.SHA256);
        var counts = new List<string>();
        foreach (
            var table in Texts(
                connection,
                "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'vestige%' AND name NOT LIKE 'sqlite%' ORDER BY name"
            )
        )
        {
            var columns = Texts(connection, $"SELECT name FROM pragma_table_info('{table}') ORDER BY cid");
            var quoted = string.Join(", ", columns.Select(column => $"quote(\"{column}\")"));
            var rows = Texts(connection, $"SELECT concat_ws(',', {quoted}) FROM \"{table}\" ORDER BY 1");
            rows.ForEach(row => hash.AppendData(System.Text.Encoding.UTF8.GetBytes(row + "\n")));
            counts.Add($"{table} {rows.Count}");
        }

        return string.Join(", ", counts) + " " + Convert.ToHexString(hash.GetHashAndReset());
    }

    private static SqliteConnection Open(string data, string database)
    {
        var connection = new SqliteConnection($"Data Source={Path.Combine(data, "stand-ins", database + ".db")};Pooling=False");
        connection.Open();
        return connection;
    }

    private static List<string> Texts(SqliteConnection connection, string sql)
    {
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        using var reader = command.ExecuteReader();
        var texts = new List<string>();
        while (reader.Read())
        {
            texts.Add(reader.GetString(0));
        }

        return texts;
    }

    private static void Execute(SqliteConnection connection, string sql)
    {
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        command.ExecuteNonQuery();
    }
}
