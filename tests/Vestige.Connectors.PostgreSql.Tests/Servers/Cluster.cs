using System.Diagnostics;
using System.Globalization;
using System.Net;
using System.Net.Sockets;
using Npgsql;

namespace Vestige.Connectors.PostgreSql.Tests.Servers;

/// <summary>A private server in a temporary folder, on a free loopback port, run by an unprivileged user.</summary>
public sealed class Cluster : IAsyncDisposable
{
    public const string Dba = "dba";
    public const string Password = "dba-made-up";
    private readonly string folder = Directory.CreateTempSubdirectory("vestige-pg-").FullName;

    private Cluster(int port) => Port = port;

    public int Port { get; }

    private static string Programs { get; } =
        Directory
            .GetDirectories("/usr/lib/postgresql")
            .Order(StringComparer.Ordinal)
            .Select(found => Path.Combine(found, "bin"))
            .Last(found => File.Exists(Path.Combine(found, "initdb")));

    public static async Task<Cluster> StartAsync(params string[] settings)
    {
        var cluster = new Cluster(FreePort());
        await File.WriteAllTextAsync(Path.Combine(cluster.folder, "password"), Password);
        if (Environment.UserName == "root")
        {
            await RunAsync("chown", "-R", "postgres", cluster.folder);
        }

        await cluster.AsServerAsync(
            Path.Combine(Programs, "initdb"),
            "-D",
            cluster.Data,
            "-A",
            "scram-sha-256",
            "-U",
            Dba,
            $"--pwfile={cluster.folder}/password",
            "-E",
            "UTF8",
            "--locale=C.UTF-8",
            "--no-sync"
        );
        string[] ours =
        [
            "listen_addresses='127.0.0.1'",
            $"port={cluster.Port}",
            $"unix_socket_directories='{cluster.folder}'",
            "wal_level=logical",
            "fsync=off",
            "max_wal_senders=20",
            "max_replication_slots=20",
            "wal_sender_timeout=10s",
        ];
        await File.AppendAllLinesAsync(Path.Combine(cluster.Data, "postgresql.conf"), [.. ours, .. settings]);
        await cluster.BootAsync();
        return cluster;
    }

    public string Data => Path.Combine(folder, "data");

    public string LogFile => Path.Combine(folder, "log");

    /// <summary>A copy of all files of the halted server, as a snapshot of its disk would be.</summary>
    public async Task<string> CopyDataAsync()
    {
        var kept = Path.Combine(folder, "kept");
        await RunAsync("cp", "-a", Data, kept);
        return kept;
    }

    /// <summary>Another server out of a copy of all files, as a clone of its disk would be: it says the same of itself.</summary>
    public async Task<Cluster> CloneAsync()
    {
        await HaltAsync(immediate: false);
        var clone = new Cluster(FreePort());
        await RunAsync("cp", "-a", Data, clone.Data);
        await BootAsync();
        await File.AppendAllLinesAsync(
            Path.Combine(clone.Data, "postgresql.conf"),
            [$"port={clone.Port}", $"unix_socket_directories='{clone.folder}'"]
        );
        if (Environment.UserName == "root")
        {
            await RunAsync("chown", "postgres", clone.folder);
        }

        await clone.BootAsync();
        return clone;
    }

    /// <summary>Puts the copied files instead of what is there.</summary>
    public async Task PutBackAsync(string kept)
    {
        Directory.Delete(Data, recursive: true);
        await RunAsync("mv", kept, Data);
    }

    public Task BootAsync() => AsServerAsync(Path.Combine(Programs, "pg_ctl"), "-D", Data, "-l", LogFile, "-w", "-t", "240", "start");

    /// <summary>Stops it: fast, or immediate as after a loss of power.</summary>
    public Task HaltAsync(bool immediate) =>
        AsServerAsync(Path.Combine(Programs, "pg_ctl"), "-D", Data, "-m", immediate ? "immediate" : "fast", "-w", "-t", "240", "stop");

    /// <summary>Runs one of the server's own programs against it.</summary>
    public Task<string> ProgramAsync(string name, params string[] arguments) =>
        RunAsync(
            Path.Combine(Programs, name),
            ["-h", "127.0.0.1", "-p", Port.ToString(CultureInfo.InvariantCulture), "-U", Dba, .. arguments]
        );

    /// <summary>Makes an empty database under a name of its own.</summary>
    public async Task<Database> MakeDatabaseAsync(string? name = null, string? encoding = null)
    {
        var made = new Database(this, name ?? $"t{Guid.NewGuid():N}"[..20]);
        await new Database(this, "postgres").RunAsync(
            $"CREATE DATABASE {made.Name}{(encoding is null ? "" : $" ENCODING '{encoding}' LOCALE 'C' TEMPLATE template0")}"
        );
        return made;
    }

    public async ValueTask DisposeAsync()
    {
        try
        {
            await HaltAsync(immediate: true);
        }
        catch (InvalidOperationException)
        {
            // It was down already.
        }

        Directory.Delete(folder, recursive: true);
    }

    internal static async Task<string> RunAsync(string program, params string[] arguments)
    {
        var start = new ProcessStartInfo(program)
        {
            UseShellExecute = false,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
            WorkingDirectory = "/",
        };
        start.Environment["PGPASSWORD"] = Password;
        foreach (var argument in arguments)
        {
            start.ArgumentList.Add(argument);
        }

        using var process = Process.Start(start)!;
        var output = process.StandardOutput.ReadToEndAsync();
        var errors = process.StandardError.ReadToEndAsync();
        await process.WaitForExitAsync();
        return process.ExitCode == 0
            ? await output
            : throw new InvalidOperationException($"{program} {string.Join(' ', arguments)} ended with {process.ExitCode}: {await errors}");
    }

    private Task AsServerAsync(string program, params string[] arguments) =>
        Environment.UserName == "root"
            ? RunQuietAsync("setpriv", ["--reuid=postgres", "--regid=postgres", "--clear-groups", program, .. arguments])
            : RunQuietAsync(program, arguments);

    /// <summary>A started server keeps what it inherits open, so its starter's output goes nowhere.</summary>
    private static async Task RunQuietAsync(string program, string[] arguments)
    {
        var quoted = string.Join(
            ' ',
            new[] { program }.Concat(arguments).Select(argument => $"'{argument.Replace("'", "'\\''", StringComparison.Ordinal)}'")
        );
        await RunAsync("sh", "-c", $"{quoted} >/dev/null 2>&1 </dev/null");
    }

    private static int FreePort()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        return ((IPEndPoint)listener.LocalEndpoint).Port;
    }
}
