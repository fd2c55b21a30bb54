using System.Globalization;
using System.Text.RegularExpressions;
using Vestige.Core.Crossings;

namespace Vestige.Bench.PostgreSql;

/// <summary>
/// What comparing all the time costs the source: transactions a second of pgbench while a crossing follows, with and without the walk over
/// its tables, in alternating rounds.
/// </summary>
internal static partial class Walk
{
    private const int Rounds = 5;
    private const double Share = 10;

    public static async Task RunAsync(int seconds)
    {
        await using var pair = await ServerPair.StartAsync();
        await pair.Source.Cluster.ProgramAsync("pgbench", "-i", "-q", "-s", "20", pair.Source.Name);
        await pair.Source.RunAsync("ALTER TABLE pgbench_history ADD COLUMN id bigserial PRIMARY KEY");
        await pair.Source.RunAsync("VACUUM ANALYZE");
        await pair.CrossAsync();
        await pair.UntilAsync(() => pair.Engine.Status("bench")!.State == CrossingState.Following);
        await PgbenchAsync(pair, seconds);
        var (without, with) = (new List<double>(), new List<double>());
        for (var round = 0; round < Rounds; round++)
        {
            await pair.Engine.Reconcile.SetRuleAsync("bench", null, "bench", CancellationToken.None);
            await pair.UntilAsync(() => pair.Engine.Reconcile.Running("bench") is null);
            without.Add(await PgbenchAsync(pair, seconds));
            await pair.Engine.Reconcile.SetRuleAsync("bench", new ReconcileRule(60, Share: Share), "bench", CancellationToken.None);
            with.Add(await PgbenchAsync(pair, seconds));
        }

        var proved = pair.Engine.Status("bench")!.Tables.Count(table => table.Verdict?.Proved is not null);
        var (one, other) = (Median(with), Median(without));
        Report.Ratio($"pgbench/s while walking {Share:0} % of the time", one, other, "not walking", 1 - (Share / 100));
        Console.WriteLine(
            $"transactions/s: walking {string.Join(", ", with.Select(value => value.ToString("0")))}; not "
                + $"{string.Join(", ", without.Select(value => value.ToString("0")))}; {proved} tables proved"
        );
    }

    private static double Median(List<double> values) => values.Order().ElementAt(values.Count / 2);

    private static async Task<double> PgbenchAsync(ServerPair pair, int seconds)
    {
        var text = await pair.Source.Cluster.ProgramAsync(
            "pgbench",
            "-c",
            "2",
            "-T",
            seconds.ToString(CultureInfo.InvariantCulture),
            "-n",
            pair.Source.Name
        );
        return double.Parse(Tps().Match(text).Groups["tps"].Value, CultureInfo.InvariantCulture);
    }

    [GeneratedRegex("tps = (?<tps>[0-9.]+)", RegexOptions.ExplicitCapture, matchTimeoutMilliseconds: 1000)]
    private static partial Regex Tps();
}
