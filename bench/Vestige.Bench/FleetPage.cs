using System.Diagnostics;
using System.Net.Http.Json;

namespace Vestige.Bench;

/// <summary>Server time and size of the Fleet page with many running crossings, beside the health address of the same process.</summary>
internal static class FleetPage
{
    private const int Requests = 200;
    private const int PerSource = 5;
    private const int TablesEach = 20;
    private static readonly TimeSpan Watched = TimeSpan.FromSeconds(60);

    public static async Task RunAsync(int crossings)
    {
        await using var app = await RunningApp.StartAsync();
        var http = app.Http;
        await FillAsync(http, crossings);
        await FollowingAsync(http, crossings);
        await Task.Delay(8000);
        await WatchingAsync(http, app.Process);
        var size = (await http.GetByteArrayAsync("/")).Length;
        var page = await app.TimesAsync("/", Requests);
        var health = await app.TimesAsync("/healthz", Requests);
        Console.WriteLine(
            $"Fleet with {crossings} running crossings: p50 {RunningApp.At(page, 0.5):0.0} ms, p95 {RunningApp.At(page, 0.95):0.0} ms, "
                + $"{size / 1000.0:0} kB"
        );
        Console.WriteLine(
            $"health address:                    p50 {RunningApp.At(health, 0.5):0.0} ms, p95 {RunningApp.At(health, 0.95):0.0} ms"
        );
        Console.WriteLine(
            $"ratio of p95 {RunningApp.At(page, 0.95) / RunningApp.At(health, 0.95):0.0}  (asked: p95 under 100 ms with 1,000 crossings)"
        );
    }

    /// <summary>What watching costs, beside all else that the process does while nothing is committed.</summary>
    private static async Task WatchingAsync(HttpClient http, Process process)
    {
        var (spent, measuring, cpu) = (await SpentAsync(http), await SpentAsync(http, "measuring"), Cpu(process));
        await Task.Delay(Watched);
        var (share, whole) = (
            (await SpentAsync(http) - spent) / Watched.TotalSeconds,
            (Cpu(process) - cpu).TotalSeconds / Watched.TotalSeconds
        );
        Console.WriteLine(
            $"watching:                          {share * 100:0.00} % of a core, of {whole * 100:0.0} % that the process takes at rest"
        );
        Console.WriteLine(
            "of that measures alone:            "
                + $"{(await SpentAsync(http, "measuring") - measuring) / Watched.TotalSeconds * 100:0.00} %  (asked: under 3 %)"
        );
    }

    private static TimeSpan Cpu(Process process)
    {
        process.Refresh();
        return process.TotalProcessorTime;
    }

    private static async Task<double> SpentAsync(HttpClient http, string what = "watching")
    {
        var line = (await http.GetStringAsync("/metrics"))
            .Split('\n')
            .First(text => text.StartsWith($"vestige_{what}_seconds_total ", StringComparison.Ordinal));
        return double.Parse(line.Split(' ')[1], System.Globalization.CultureInfo.InvariantCulture);
    }

    private static async Task FollowingAsync(HttpClient http, int crossings)
    {
        for (var tries = 0; tries < 600; tries++)
        {
            var states = await http.GetFromJsonAsync<List<Listed>>("/api/v1/crossings");
            if (states!.Count(one => one.State == "following") == crossings)
            {
                return;
            }

            await Task.Delay(1000);
        }

        throw new InvalidOperationException("Not all crossings came to follow.");
    }

    /// <summary>Sources with five crossings each, twenty tables to a crossing, each to a target with four others.</summary>
    private static async Task FillAsync(HttpClient http, int crossings)
    {
        for (var source = 0; source * PerSource < crossings; source++)
        {
            foreach (var side in new[] { "from", "to" })
            {
                (
                    await http.PostAsJsonAsync("/api/v1/connections", new { name = $"{side}-{source}", kind = "stand-in" })
                ).EnsureSuccessStatusCode();
            }

            var mine = Math.Min(PerSource, crossings - (source * PerSource));
            var statements = Enumerable
                .Range(0, mine)
                .SelectMany(i =>
                    Enumerable
                        .Range(0, TablesEach)
                        .Select(j => $"CREATE TABLE c{i}_{j} (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO c{i}_{j} VALUES (1, 'x')")
                );
            foreach (var part in statements.Chunk(100))
            {
                (
                    await http.PostAsJsonAsync($"/api/v1/bench/from-{source}", new { statement = string.Join(';', part) })
                ).EnsureSuccessStatusCode();
            }

            for (var i = 0; i < mine; i++)
            {
                var name = $"crossing-number-{(source * PerSource) + i}";
                (
                    await http.PostAsJsonAsync(
                        "/api/v1/crossings",
                        new
                        {
                            name,
                            purpose = "copy",
                            source = $"from-{source}",
                            target = $"to-{source}",
                            tables = new { rules = new[] { new { take = $"from-{source}.c{i}_*" } } },
                        }
                    )
                ).EnsureSuccessStatusCode();
                (await http.PostAsJsonAsync($"/api/v1/crossings/{name}/start", new { })).EnsureSuccessStatusCode();
            }
        }
    }

    private sealed record Listed(string Name, string State);
}
