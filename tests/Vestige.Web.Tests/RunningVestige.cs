using System.Diagnostics;
using System.Net;
using System.Net.Http.Json;
using System.Net.Sockets;
using System.Text.Json;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>
/// The application with a data folder of its own: as a process of its own, which can be killed and started again, or within this one, where
/// a start costs a tenth.
/// </summary>
public sealed class RunningVestige : IAsyncDisposable
{
    /// <summary>So long is waited for what must come: on a machine that others use too, a start has taken more than a minute.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(240);

    private const int LinesKept = 400;

    /// <summary>The console is the tests' own.</summary>
    private static readonly string[] Quiet = ["--Logging:Console:LogLevel:Default", "None"];
    private readonly string root = Directory.CreateTempSubdirectory("vestige-web-").FullName;
    private readonly string[] arguments;
    private readonly Queue<string> lines = [];
    private readonly CancellationTokenSource stop = new();
    private Process? process;
    private Task<int>? here;

    private RunningVestige(string[] arguments)
    {
        this.arguments = arguments;
        Port = FreePort();
        Http = new HttpClient { BaseAddress = new Uri($"http://127.0.0.1:{Port}"), Timeout = TimeSpan.FromSeconds(180) };
    }

    public int Port { get; }

    public HttpClient Http { get; }

    public string Data => Path.Combine(root, "data");

    public string Keys => Path.Combine(root, "keys");

    /// <summary>Runs the program to its end and returns what it wrote on its error output; throws when it continues for a minute.</summary>
    public static async Task<string> RunToEndAsync(params string[] arguments)
    {
        var start = new ProcessStartInfo("dotnet")
        {
            UseShellExecute = false,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        foreach (var argument in arguments.Prepend(typeof(Program).Assembly.Location))
        {
            start.ArgumentList.Add(argument);
        }

        using var program = Process.Start(start)!;
        using var patience = new CancellationTokenSource(TimeSpan.FromSeconds(60));
        var said = program.StandardError.ReadToEndAsync(patience.Token);
        _ = program.StandardOutput.ReadToEndAsync(patience.Token);
        try
        {
            await program.WaitForExitAsync(patience.Token);
            return await said;
        }
        catch (OperationCanceledException exception)
        {
            program.Kill();
            throw new TimeoutException("The program did not end.", exception);
        }
    }

    /// <summary>Starts the process where it cannot start, and returns what it says.</summary>
    public Task<string> FailToLaunchAsync() => RunToEndAsync(CommandLine);

    public static async Task<RunningVestige> StartAsync(params string[] arguments)
    {
        var vestige = new RunningVestige(arguments);
        await vestige.LaunchAsync();
        return vestige;
    }

    /// <summary>Starts it within this process, for a test that does not kill it.</summary>
    public static async Task<RunningVestige> HostAsync(params string[] arguments)
    {
        var vestige = new RunningVestige(arguments);
        await vestige.HostAsync();
        return vestige;
    }

    /// <summary>
    /// Starts within this process on a copy of what an earlier build left behind: a folder with <c>data</c> and <c>keys</c>.
    /// </summary>
    public static async Task<RunningVestige> HostOnCopyAsync(string folder)
    {
        var vestige = new RunningVestige(["--empty", "true"]);
        foreach (var file in Directory.EnumerateFiles(folder, "*", SearchOption.AllDirectories))
        {
            var copy = Path.Combine(vestige.root, Path.GetRelativePath(folder, file));
            Directory.CreateDirectory(Path.GetDirectoryName(copy)!);
            File.Copy(file, copy);
        }

        await vestige.HostAsync();
        return vestige;
    }

    /// <summary>Starts the process; returns what it says on its error output where it ends instead of being ready, else null.</summary>
    public async Task<string?> TryLaunchAsync()
    {
        try
        {
            await LaunchAsync();
            return null;
        }
        catch (InvalidOperationException) when (process is { HasExited: true })
        {
            process.Dispose();
            process = null;
            return await FailToLaunchAsync();
        }
    }

    /// <summary>Starts the process and waits until it is ready.</summary>
    public async Task LaunchAsync()
    {
        var start = new ProcessStartInfo("dotnet")
        {
            UseShellExecute = false,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        foreach (var argument in CommandLine.Prepend(typeof(Program).Assembly.Location))
        {
            start.ArgumentList.Add(argument);
        }

        process = Process.Start(start)!;
        process.OutputDataReceived += (_, line) => Keep(line.Data);
        process.ErrorDataReceived += (_, line) => Keep(line.Data);
        process.BeginOutputReadLine();
        process.BeginErrorReadLine();
        await WaitUntilReadyAsync(() => process.HasExited);
    }

    private string[] CommandLine => ["--port", $"{Port}", "--data", Data, "--keys", Keys, .. arguments];

    private Task HostAsync()
    {
        here = Task.Run(() => Program.RunAsync([.. CommandLine, .. Quiet], stop.Token));
        return WaitUntilReadyAsync(() => here.IsCompleted);
    }

    private async Task WaitUntilReadyAsync(Func<bool> hasEnded)
    {
        var until = DateTimeOffset.UtcNow + Patience;
        while (true)
        {
            try
            {
                if ((await Http.GetAsync("/readyz")).IsSuccessStatusCode)
                {
                    return;
                }
            }
            catch (HttpRequestException)
            {
                // Not listening yet.
            }

            if (hasEnded() || DateTimeOffset.UtcNow > until)
            {
                throw new InvalidOperationException($"Vestige did not start (exited: {hasEnded()}).");
            }

            await Task.Delay(50);
        }
    }

    /// <summary>The last lines that the process wrote on its console.</summary>
    public string LastLines
    {
        get
        {
            lock (lines)
            {
                return string.Join('\n', lines);
            }
        }
    }

    private void Keep(string? line)
    {
        lock (lines)
        {
            lines.Enqueue(line ?? "");
            if (lines.Count > LinesKept)
            {
                lines.Dequeue();
            }
        }
    }

    /// <summary>
    /// Removes every crossing and connection and what stand-ins hold, so that another test finds what it would find in a new process but
    /// for the events.
    /// </summary>
    public async Task ClearAsync()
    {
        foreach (var crossing in await NamesAsync("/api/v1/crossings"))
        {
            await PostAsync($"/api/v1/crossings/{crossing}/stop", new { manner = "now" });
            await DeleteAsync($"/api/v1/crossings/{crossing}");
        }

        foreach (var connection in await NamesAsync("/api/v1/connections"))
        {
            await DeleteAsync($"/api/v1/connections/{connection}");
        }

        var standIns = Path.Combine(Data, "stand-ins");
        foreach (var file in Directory.Exists(standIns) ? Directory.GetFiles(standIns) : [])
        {
            File.Delete(file);
        }
    }

    private async Task<List<string>> NamesAsync(string path) =>
        [.. (await GetAsync(path)).EnumerateArray().Select(one => one.GetProperty("name").GetString()!)];

    private async Task DeleteAsync(string path)
    {
        using var request = new HttpRequestMessage(HttpMethod.Delete, path);
        request.Headers.TryAddWithoutValidation("If-Match", "*");
        using var response = await Http.SendAsync(request);
        response.EnsureSuccessStatusCode();
    }

    /// <summary>kill -9.</summary>
    public void Kill()
    {
        process!.Kill();
        process.WaitForExit();
        process.Dispose();
        process = null;
    }

    public async Task<JsonElement> GetAsync(string path) => await Http.GetFromJsonAsync<JsonElement>(path);

    public async Task<JsonElement> StatusAsync(string crossing) => await GetAsync($"/api/v1/crossings/{crossing}/status");

    public async Task<(HttpStatusCode Code, JsonElement Body)> PostAsync(string path, object? body = null)
    {
        using var response = await Http.PostAsJsonAsync(path, body ?? new { });
        var text = await response.Content.ReadAsStringAsync();
        return (response.StatusCode, text.Length > 0 ? JsonDocument.Parse(text).RootElement : default);
    }

    public Task<(HttpStatusCode Code, JsonElement Body)> BenchAsync(string connection, string statement) =>
        PostAsync($"/api/v1/bench/{connection}", new { statement });

    /// <summary>Asks until something holds of a crossing's status.</summary>
    public async Task WaitAsync(string crossing, Func<JsonElement, bool> holds, string what)
    {
        var until = DateTimeOffset.UtcNow + Patience;
        var status = await StatusAsync(crossing);
        while (!holds(status))
        {
            if (DateTimeOffset.UtcNow > until)
            {
                throw new TimeoutException($"Waited in vain for {what}: {status}");
            }

            await Task.Delay(50);
            status = await StatusAsync(crossing);
        }
    }

    public async ValueTask DisposeAsync()
    {
        if (process is not null)
        {
            Kill();
        }

        Http.Dispose();
        await stop.CancelAsync();
        if (here is not null)
        {
            Assert.Equal(0, await here);
        }

        stop.Dispose();
        Directory.Delete(root, recursive: true);
    }

    private static int FreePort()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        return ((IPEndPoint)listener.LocalEndpoint).Port;
    }
}
