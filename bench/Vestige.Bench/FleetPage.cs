using System.Diagnostics;
using System.Net.Http.Json;
using Vestige.Web.Hosting;

namespace Vestige.Bench;

/// <summary>Server time and size of the Fleet page with many running crossings, beside the health address of the same process.</summary>
internal static class FleetPage
{
    private const int Requests = 200;
    private const int Port = 5391;

    public static async Task RunAsync(int crossings)
    {
        var folder = Directory.CreateTempSubdirectory("vestige-bench-").FullName;
        using var process = Process.Start(new ProcessStartInfo("dotnet", [typeof(VestigeSettings).Assembly.Location, "--port", $"{Port}", "--data", Path.Combine(folder, "data"), "--keys", Path.Combine(folder, "keys"), "--empty", "true"])
        {
            UseShellExecute = false,
        })!;
        using var http = new HttpClient { BaseAddress = new Uri($"http://127.0.0.1:{Port}") };
        try
        {
            await ReadyAsync(http);
            await FillAsync(http, crossings);
            await Task.Delay(8000);
            var size = (await http.GetByteArrayAsync("/")).Length;
            var page = await TimesAsync(http, "/");
            var health = await TimesAsync(http, "/healthz");
            Console.WriteLine($"Fleet with {crossings} running crossings: p50 {At(page, 0.5):0.0} ms, p95 {At(page, 0.95):0.0} ms, {size / 1000.0:0} kB");
            Console.WriteLine($"health address:                    p50 {At(health, 0.5):0.0} ms, p95 {At(health, 0.95):0.0} ms");
            Console.WriteLine($"ratio of p95 {At(page, 0.95) / At(health, 0.95):0.0}  (asked: p95 under 50 ms, page under 250 kB)");
        }
        finally
        {
            process.Kill();
            await process.WaitForExitAsync();
            Directory.Delete(folder, recursive: true);
        }
    }

    private static async Task ReadyAsync(HttpClient http)
    {
        for (var tries = 0; tries < 200; tries++)
        {
            try
            {
                if ((await http.GetAsync("/readyz")).IsSuccessStatusCode)
                {
                    return;
                }
            }
            catch (HttpRequestException)
            {
                // Not listening yet.
            }

            await Task.Delay(100);
        }
    }

    /// <summary>One source of as many tables, each crossing carrying one of them, half to each of two targets.</summary>
    private static async Task FillAsync(HttpClient http, int crossings)
    {
        foreach (var name in new[] { "many", "left", "right" })
        {
            await http.PostAsJsonAsync("/api/v1/connections", new { name, kind = "stand-in" });
        }

        var statements = string.Join(';', Enumerable.Range(0, crossings).Select(i => $"CREATE TABLE t{i} (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t{i} VALUES (1, 'x')"));
        foreach (var part in statements.Split(';').Chunk(200))
        {
            (await http.PostAsJsonAsync("/api/v1/bench/many", new { statement = string.Join(';', part) })).EnsureSuccessStatusCode();
        }

        for (var i = 0; i < crossings; i++)
        {
            var name = $"crossing-number-{i}";
            var target = i % 2 == 0 ? "left" : "right";
            (await http.PostAsJsonAsync("/api/v1/crossings", new { name, purpose = "copy", source = "many", target, tables = new { rules = new[] { new { take = $"many.t{i}" } } } })).EnsureSuccessStatusCode();
            (await http.PostAsJsonAsync($"/api/v1/crossings/{name}/start", new { })).EnsureSuccessStatusCode();
        }
    }

    private static async Task<List<double>> TimesAsync(HttpClient http, string path)
    {
        var times = new List<double>();
        for (var i = 0; i < Requests; i++)
        {
            var began = Stopwatch.GetTimestamp();
            await http.GetByteArrayAsync(path);
            times.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
        }

        times.Sort();
        return times;
    }

    private static double At(List<double> sorted, double q) => sorted[Math.Max(0, (int)Math.Ceiling(q * sorted.Count) - 1)];
}
