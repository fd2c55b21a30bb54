using System.Diagnostics;
using System.Globalization;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>A data folder of which something is missing or damaged: said in a sentence, and nothing is written.</summary>
public sealed class DataFolderTests
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task Keys_that_are_missing_or_anothers_are_never_made_anew()
    {
        await using var vestige = await RunningVestige.StartAsync("--empty", "true");
        vestige.Kill();
        var before = Print(vestige.Data);
        foreach (var key in new[] { "mask.key", "spool.key", "signing.key" })
        {
            var path = Path.Combine(vestige.Data, key);
            var kept = await File.ReadAllBytesAsync(path, cancellation);
            File.Delete(path);
            Assert.Contains($"{key} is missing", await vestige.FailToLaunchAsync(), StringComparison.Ordinal);
            Assert.False(File.Exists(path));
            await File.WriteAllBytesAsync(path, [.. kept[..^4], 1, 2, 3, 4], cancellation);
            Assert.Contains("cannot be unwrapped", await vestige.FailToLaunchAsync(), StringComparison.Ordinal);
            await File.WriteAllBytesAsync(path, kept, cancellation);
        }

        // One key instead of another, unwrapped by the same ring, is known by its fingerprint or cannot be unwrapped for that use.
        var (mask, spool) = (Path.Combine(vestige.Data, "mask.key"), Path.Combine(vestige.Data, "spool.key"));
        var own = await File.ReadAllBytesAsync(mask, cancellation);
        File.Copy(spool, mask, overwrite: true);
        Assert.Contains("mask.key", await vestige.FailToLaunchAsync(), StringComparison.Ordinal);
        await File.WriteAllBytesAsync(mask, own, cancellation);

        Directory.Move(vestige.Keys, vestige.Keys + ".away");
        Assert.Contains("key ring", await vestige.FailToLaunchAsync(), StringComparison.Ordinal);
        Assert.False(Directory.Exists(vestige.Keys) && Directory.EnumerateFiles(vestige.Keys).Any());
        if (Directory.Exists(vestige.Keys))
        {
            Directory.Delete(vestige.Keys);
        }

        Directory.Move(vestige.Keys + ".away", vestige.Keys);
        Assert.Equal(before, Print(vestige.Data));
        await vestige.LaunchAsync();
    }

    [Fact]
    public async Task Folders_and_files_are_for_their_owner_only_and_a_port_in_use_is_said_at_once()
    {
        await using var vestige = await RunningVestige.StartAsync("--empty", "true");
        await vestige.PostAsync("/api/v1/connections", new { name = "one", kind = "stand-in" });
        foreach (var path in Directory.EnumerateFileSystemEntries(vestige.Data, "*", SearchOption.AllDirectories).Append(vestige.Data))
        {
            var most = Directory.Exists(path)
                ? UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute
                : UnixFileMode.UserRead | UnixFileMode.UserWrite;
            Assert.True(OperatingSystem.IsWindows() || (File.GetUnixFileMode(path) & ~most) == UnixFileMode.None, path);
        }

        var other = Directory.CreateTempSubdirectory("vestige-other-").FullName;
        var said = await RunningVestige.RunToEndAsync(
            "--port",
            $"{vestige.Port}",
            "--data",
            Path.Combine(other, "data"),
            "--keys",
            Path.Combine(other, "keys")
        );
        Assert.Contains($"Port {vestige.Port} cannot be used", said, StringComparison.Ordinal);
        Assert.False(Directory.Exists(Path.Combine(other, "data")));
        Directory.Delete(other, recursive: true);
    }

    /// <summary>
    /// Whatever happens to one file: a sentence instead of a start, or a start in which only what needs the file is faulted.
    /// </summary>
    [Fact]
    public async Task Each_damaged_or_missing_file_is_reported_and_stops_nothing_else()
    {
        var seed = int.Parse(
            Environment.GetEnvironmentVariable("VESTIGE_SEED") ?? $"{Random.Shared.Next(100_000)}",
            CultureInfo.InvariantCulture
        );
        var tries = Environment.GetEnvironmentVariable("VESTIGE_MIXES") is null ? 3 : int.MaxValue;
        TestContext.Current.TestOutputHelper!.WriteLine($"seed {seed}");
        var random = new Random(seed);
        await using var foreign = await TwoCrossingsAsync();
        foreign.Kill();
        await using var vestige = await TwoCrossingsAsync();
        vestige.Kill();
        var root = Path.GetDirectoryName(vestige.Data)!;
        var kept = Directory.CreateTempSubdirectory("vestige-kept-").FullName;
        Copy(root, kept);
        var only = Environment.GetEnvironmentVariable("VESTIGE_DAMAGE") ?? "";
        var files = Directory
            .EnumerateFiles(kept, "*", SearchOption.AllDirectories)
            .Select(file => Path.GetRelativePath(kept, file))
            .Where(file => !file.EndsWith("lock", StringComparison.Ordinal));
        var cases = files
            .Order()
            .SelectMany(
                file => new[] { "flipped", "cut", "empty", "missing", "another's", "a folder", "read-only" },
                (file, how) => (file, how)
            )
            .Where(one => $"{one.file}, {one.how}".Contains(only, StringComparison.Ordinal))
            .ToArray();
        random.Shuffle(cases);
        foreach (var (file, how) in cases.Take(tries))
        {
            await SetReadOnlyAsync(root, on: false);
            Directory.Delete(root, recursive: true);
            Copy(kept, root);
            if (how == "read-only" && !await SetReadOnlyAsync(Path.Combine(root, file), on: true))
            {
                TestContext.Current.TestOutputHelper.WriteLine($"{file} cannot be made read-only here");
                continue;
            }

            Damage(Path.Combine(root, file), how, Path.Combine(Path.GetDirectoryName(foreign.Data)!, file), random);
            var what = $"seed {seed}: {file}, {how}";
            if (await vestige.TryLaunchAsync() is { } said)
            {
                Assert.True(
                    said.StartsWith("Vestige cannot start. ", StringComparison.Ordinal)
                        && !said.Contains("   at ", StringComparison.Ordinal),
                    $"{what}: {said}"
                );
                continue;
            }

            foreach (
                var page in new[]
                {
                    "/",
                    "/crossings",
                    "/connections",
                    "/crossings/other",
                    "/crossings/other/tables",
                    "/crossings/other/tables/c.t",
                    "/crossings/other/tables/c.t?key=1",
                    "/connections/c/tables/c.t",
                    "/crossings/other/start",
                    "/crossings/other/history",
                    "/crossings/other/quarantine",
                    "/crossings/other/reconcile",
                    "/crossings/other/definition",
                    "/crossings/other/treatment",
                    "/crossings/other/pace",
                    "/crossings/other/events",
                    "/crossings/other/stop",
                    "/trace",
                    "/bench",
                    "/bench/c",
                    "/connections/c",
                    "/connections/d",
                    "/alerts",
                    "/events",
                    "/api/v1/crossings",
                    "/api/v1/crossings/other/status",
                }
            )
            {
                using var response = await vestige.Http.GetAsync(page, cancellation);
                Assert.True((int)response.StatusCode < 500, $"{what}: {page} answers {response.StatusCode}. {vestige.LastLines}");
            }

            if (!IsOfGood(file))
            {
                await vestige.WaitAsync(
                    "good",
                    status => status.GetProperty("state").GetString() == "following",
                    $"{what}: the other crossing following"
                );
            }

            vestige.Kill();
        }

        await SetReadOnlyAsync(root, on: false);
        Directory.Delete(kept, recursive: true);
    }

    /// <summary>So that not even root may write it; false where the file system or the rights here do not know that.</summary>
    private static async Task<bool> SetReadOnlyAsync(string path, bool on)
    {
        try
        {
            using var change = Process.Start(
                new ProcessStartInfo("chattr", ["-R", on ? "+i" : "-i", path]) { RedirectStandardError = true, UseShellExecute = false }
            )!;
            await change.StandardError.ReadToEndAsync();
            await change.WaitForExitAsync();
            return change.ExitCode == 0;
        }
        catch (System.ComponentModel.Win32Exception)
        {
            return false;
        }
    }

    /// <summary>
    /// What the crossing from a to b needs. Without its last writes the store is an older one, which may not know the crossing.
    /// </summary>
    private static bool IsOfGood(string file) =>
        file.Contains("/a", StringComparison.Ordinal)
        || file.Contains("/b.db", StringComparison.Ordinal)
        || file.Contains("vestige.db", StringComparison.Ordinal);

    private static async Task<RunningVestige> TwoCrossingsAsync()
    {
        var vestige = await RunningVestige.StartAsync("--empty", "true");
        foreach (var name in new[] { "a", "b", "c", "d" })
        {
            await vestige.PostAsync("/api/v1/connections", new { name, kind = "stand-in" });
        }

        foreach (var (name, source, target) in new[] { ("good", "a", "b"), ("other", "c", "d") })
        {
            await vestige.BenchAsync(source, "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t VALUES (1, 'x')");
            await vestige.PostAsync(
                "/api/v1/crossings",
                new
                {
                    name,
                    purpose = "copy",
                    source,
                    target,
                    tables = new { rules = new[] { new { take = "*.t" } } },
                }
            );
            await vestige.PostAsync($"/api/v1/crossings/{name}/start");
            await vestige.WaitAsync(name, status => status.GetProperty("state").GetString() == "following", $"{name} following");
            await vestige.BenchAsync(source, "INSERT INTO t VALUES (2, 'y')");
            await vestige.WaitAsync(
                name,
                status => status.GetProperty("tables")[0].GetProperty("changes").GetProperty("insert").GetInt64() == 1,
                "the change"
            );
        }

        return vestige;
    }

    private static void Damage(string path, string how, string others, Random random)
    {
        var bytes = File.ReadAllBytes(path);
        switch (how)
        {
            case "flipped":
                for (var i = 0; i < bytes.Length; i += 500)
                {
                    bytes[random.Next(bytes.Length)] ^= 0xFF;
                }

                File.WriteAllBytes(path, bytes);
                break;
            case "cut":
                File.WriteAllBytes(path, bytes[..(bytes.Length / 2)]);
                break;
            case "empty":
                File.WriteAllBytes(path, []);
                break;
            case "read-only":
                break;
            case "another's" when File.Exists(others):
                File.Copy(others, path, overwrite: true);
                break;
            default:
                File.Delete(path);
                if (how == "a folder")
                {
                    Directory.CreateDirectory(path);
                }

                break;
        }
    }

    private static void Copy(string from, string to)
    {
        Directory.CreateDirectory(to);
        foreach (var folder in Directory.EnumerateDirectories(from, "*", SearchOption.AllDirectories))
        {
            Directory.CreateDirectory(Path.Combine(to, Path.GetRelativePath(from, folder)));
        }

        foreach (var file in Directory.EnumerateFiles(from, "*", SearchOption.AllDirectories))
        {
            File.Copy(file, Path.Combine(to, Path.GetRelativePath(from, file)), overwrite: true);
        }
    }

    /// <summary>One connection whose file is damaged, and a spool that is: the crossings on them say so, the others follow.</summary>
    [Fact]
    public async Task One_broken_file_keeps_nothing_else_from_starting()
    {
        await using var vestige = await RunningVestige.StartAsync("--empty", "true");
        foreach (var name in new[] { "a", "b", "c", "d" })
        {
            await vestige.PostAsync("/api/v1/connections", new { name, kind = "stand-in" });
        }

        await vestige.BenchAsync("a", "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t VALUES (1, 'x')");
        await vestige.BenchAsync("c", "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t VALUES (1, 'x')");
        foreach (var (name, source, target) in new[] { ("good", "a", "b"), ("broken", "c", "d") })
        {
            await vestige.PostAsync(
                "/api/v1/crossings",
                new
                {
                    name,
                    purpose = "copy",
                    source,
                    target,
                    tables = new { rules = new[] { new { take = "*.t" } } },
                }
            );
            await vestige.PostAsync($"/api/v1/crossings/{name}/start");
            await vestige.WaitAsync(name, status => status.GetProperty("state").GetString() == "following", $"{name} following");
        }

        vestige.Kill();
        await File.WriteAllTextAsync(Path.Combine(vestige.Data, "stand-ins", "c.db"), new string('x', 8192), cancellation);
        File.Delete(Path.Combine(vestige.Data, "stand-ins", "c.db-wal"));
        await vestige.LaunchAsync();
        await vestige.BenchAsync("a", "INSERT INTO t VALUES (2, 'goes on')");
        await vestige.WaitAsync("good", status => status.GetProperty("state").GetString() == "following", "the good one following");
        var broken = await vestige.StatusAsync("broken");
        Assert.NotEqual("following", broken.GetProperty("state").GetString());
        foreach (
            var page in new[]
            {
                "/",
                "/crossings",
                "/connections",
                "/crossings/broken",
                "/connections/c",
                "/alerts",
                "/events",
                "/api/v1/crossings",
            }
        )
        {
            using var response = await vestige.Http.GetAsync(page, cancellation);
            Assert.True((int)response.StatusCode < 500, $"{page}: {response.StatusCode}");
        }
    }

    private static string Print(string folder) =>
        string.Join(
            '\n',
            Directory
                .EnumerateFiles(folder, "*", SearchOption.AllDirectories)
                .Where(file => !file.EndsWith("/lock", StringComparison.Ordinal) && !file.EndsWith("-shm", StringComparison.Ordinal))
                .Order()
                .Select(file =>
                    $"{file} {new FileInfo(file).Length} "
                    + $"{(file.EndsWith(".key", StringComparison.Ordinal) ? default : File.GetLastWriteTimeUtc(file)):O}"
                )
        );
}
