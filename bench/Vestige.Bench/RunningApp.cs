using System.Diagnostics;
using Vestige.Web.Hosting;

namespace Vestige.Bench;

/// <summary>The application in a process of its own, empty, in a folder that goes with it.</summary>
internal sealed class RunningApp : IAsyncDisposable
{
    private const int Port = 5391;
    private readonly string folder = Directory.CreateTempSubdirectory("vestige-bench-").FullName;

    private RunningApp()
    {
        Process = Process.Start(
            new ProcessStartInfo(
                "dotnet",
                [
                    typeof(VestigeSettings).Assembly.Location,
                    "--port",
                    $"{Port}",
                    "--data",
                    Path.Combine(folder, "data"),
                    "--keys",
                    Path.Combine(folder, "keys"),
                    "--empty",
                    "true",
                ]
            )
            {
                UseShellExecute = false,
            }
        )!;
    }

    public Process Process { get; }

    public HttpClient Http { get; } = new() { BaseAddress = new Uri($"http://127.0.0.1:{Port}"), Timeout = TimeSpan.FromMinutes(5) };

    public static async Task<RunningApp> StartAsync()
    {
        var app = new RunningApp();
        for (var tries = 0; tries < 200; tries++)
        {
            try
            {
                if ((await app.Http.GetAsync("/readyz")).IsSuccessStatusCode)
                {
                    break;
                }
            }
            catch (HttpRequestException)
            {
                // Not listening yet.
            }

            await Task.Delay(100);
        }

        return app;
    }

    /// <summary>How long the whole of a page takes, in milliseconds, sorted.</summary>
    public Task<List<double>> TimesAsync(string path, int requests) => TimesAsync(() => Http.GetByteArrayAsync(path), requests);

    /// <summary>How long a request takes, in milliseconds, sorted.</summary>
    public static async Task<List<double>> TimesAsync(Func<Task> request, int requests)
    {
        var times = new List<double>();
        for (var i = 0; i < requests; i++)
        {
            var began = Stopwatch.GetTimestamp();
            await request();
            times.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
        }

        times.Sort();
        return times;
    }

    /// <summary>A quantile by nearest rank.</summary>
    public static double At(List<double> sorted, double q) => sorted[Math.Max(0, (int)Math.Ceiling(q * sorted.Count) - 1)];

    public async ValueTask DisposeAsync()
    {
        Http.Dispose();
        Process.Kill();
        await Process.WaitForExitAsync();
        Process.Dispose();
        Directory.Delete(folder, recursive: true);
    }
}
