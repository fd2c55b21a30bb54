using System.Globalization;
using Npgsql;
using Vestige.Core.Crossings;

namespace Vestige.Bench.PostgreSql;

/// <summary>
/// Columns are added to a table that takes 500 transactions a second: how much later its rows, and those of the other table, can be
/// read on the target than without. The age of the youngest row on the target is what a reader there sees; the baseline is the same while
/// nothing is added. Each row is written with the time of its transaction, by the clock of the same machine.
/// </summary>
internal static class Carry
{
    private const int PerSecond = 500;
    private const int Longest = 1500;
    private static readonly string[] Kinds = ["c{0} int", "c{0} int NOT NULL DEFAULT 5", "c{0} text DEFAULT 'a value'"];

    public static async Task RunAsync(int changes)
    {
        await using var pair = await ServerPair.StartAsync();
        foreach (var table in new[] { "changed", "other" })
        {
            await pair.Source.RunAsync(
                $"CREATE TABLE {table} (id bigserial PRIMARY KEY, at timestamptz, note text); INSERT INTO {table} (at, note) SELECT now(), "
                    + $"'some text' FROM generate_series(1, 500000); CREATE INDEX ON {table} (at); ANALYZE {table}"
            );
        }

        await pair.WarmAsync();
        await pair.CrossAsync();
        await pair.UntilAsync(() => pair.Engine.Status("bench")!.State == CrossingState.Following);
        await pair.Target.RunAsync(
            "CREATE INDEX IF NOT EXISTS changed_at ON changed (at); CREATE INDEX IF NOT EXISTS other_at ON other (at)"
        );
        var writing = WriteAsync(pair, (changes * 2 * Longest / 1000) + (changes / 2) + 20);
        await Task.Delay(TimeSpan.FromSeconds(5));
        var quiet = await RoundsAsync(pair, changes, _ => null);
        var added = await RoundsAsync(pair, changes, Column);
        if (writing.IsCompleted)
        {
            throw new InvalidOperationException("The writing ended too early.");
        }

        await writing;
        await pair.UntilAsync(() => pair.Engine.Status("bench")!.Lag is { Current: true });
        if (await pair.Source.DigestAsync("changed") != await pair.Target.DigestAsync("changed"))
        {
            throw new InvalidOperationException("changed differs.");
        }

        Console.WriteLine(
            $"{changes} columns added at {PerSecond} transactions/s; the greatest age of the youngest row after each, seconds"
        );
        Tell("the table that is changed", added.Changed, quiet.Changed, 0.5);
        Tell("the other table", added.Other, quiet.Other, 0.2);
    }

    private static string Column(int round) => string.Format(CultureInfo.InvariantCulture, Kinds[round % Kinds.Length], round);

    private static void Tell(string what, List<double> added, List<double> quiet, double asked)
    {
        var (late, base0) = (Percentile(added), Percentile(quiet));
        Console.WriteLine(
            $"{what,-28} p95 {late:0.000}   without a change {base0:0.000}   later by {late - base0:0.000} (asked: at most {asked})   "
                + $"ratio {late / base0:0.0}"
        );
    }

    private static double Percentile(List<double> values) => values.Order().ElementAt((int)Math.Ceiling(0.95 * values.Count) - 1);

    /// <summary>In each round a column is added, or none, and the ages are looked at for a while.</summary>
    private static async Task<(List<double> Changed, List<double> Other)> RoundsAsync(
        ServerPair pair,
        int rounds,
        Func<int, string?> column
    )
    {
        var (changed, other) = (new List<double>(), new List<double>());
        await using var altering = await pair.Source.OpenAsync();
        for (var round = 0; round < rounds; round++)
        {
            if (column(round) is { } added)
            {
                await using var alter = new NpgsqlCommand($"ALTER TABLE changed ADD COLUMN {added}", altering);
                await alter.ExecuteNonQueryAsync();
            }

            var ages = await Task.WhenAll(GreatestAgeAsync(pair, "changed"), GreatestAgeAsync(pair, "other"));
            changed.Add(ages[0]);
            other.Add(ages[1]);
        }

        return (changed, other);
    }

    /// <summary>Each table is read by a session of its own: one that waits for a lock says nothing of the other table.</summary>
    private static async Task<double> GreatestAgeAsync(ServerPair pair, string table)
    {
        await using var reading = await pair.Target.OpenAsync();
        await using var age = new NpgsqlCommand(
            $"SELECT extract(epoch FROM clock_timestamp() - (SELECT max(at) FROM {table}))::float8",
            reading
        );
        var greatest = 0.0;
        for (var until = Environment.TickCount64 + Longest; Environment.TickCount64 < until; await Task.Delay(5))
        {
            greatest = Math.Max(greatest, (double)(await age.ExecuteScalarAsync())!);
        }

        return greatest;
    }

    private static async Task WriteAsync(ServerPair pair, int seconds)
    {
        var script = Path.GetTempFileName();
        await File.WriteAllTextAsync(
            script,
            "BEGIN;\nINSERT INTO changed (at, note) VALUES (clock_timestamp(), 'new');\nINSERT INTO other (at, note) VALUES "
                + "(clock_timestamp(), 'new');\nEND;\n"
        );
        var (rate, length) = (PerSecond.ToString(CultureInfo.InvariantCulture), seconds.ToString(CultureInfo.InvariantCulture));
        await pair.Source.Cluster.ProgramAsync("pgbench", "-c", "4", "-R", rate, "-T", length, "-n", "-f", script, pair.Source.Name);
        File.Delete(script);
    }
}
