using System.Diagnostics;
using System.Net;
using System.Net.Http.Json;
using System.Text.Json;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Http;
using Vestige.Core.Changes;
using Vestige.Core.Forecasting;
using Vestige.Core.Lag;
using Vestige.Core.Measures;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Storage;
using Vestige.Web.Hosting;
using Vestige.Web.Measures;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>Events and measures as others take them: files that other programs read, and the store of measures.</summary>
public sealed class WatchingTests
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    /// <summary>
    /// The text is read by the parser of Debian's python3-prometheus-client, which holds it against the OpenMetrics specification.
    /// </summary>
    [Fact]
    public async Task The_measures_are_OpenMetrics_to_an_independent_parser()
    {
        await using var vestige = await DemoAsync();
        using var answer = await vestige.Http.GetAsync("/metrics", cancellation);
        Assert.Equal("application/openmetrics-text", answer.Content.Headers.ContentType!.MediaType);
        var text = await answer.Content.ReadAsStringAsync(cancellation);
        var read = await PythonAsync(
            "import sys, json\nfrom prometheus_client.openmetrics.parser import text_string_to_metric_families as "
                + "parse\nprint(json.dumps([[s.name, s.labels, s.value] for f in parse(sys.stdin.read()) for s in f.samples]))",
            text
        );
        var samples = JsonSerializer.Deserialize<JsonElement>(read).EnumerateArray().ToList();
        double Of(string name, params (string Label, string Value)[] labels) =>
            Assert
                .Single(samples, sample =>
                    sample[0].GetString() == name && labels.All(label => sample[1].GetProperty(label.Label).GetString() == label.Value)
                )[2]
                .GetDouble();
        Assert.Equal(1, Of("vestige_state", ("crossing", "items"), ("state", "following")));
        Assert.Equal(0, Of("vestige_state", ("crossing", "items"), ("state", "faulted")));
        Assert.Equal(2, Of("vestige_table_changes_total", ("crossing", "items"), ("table", "shop.item"), ("kind", "insert")));
        Assert.True(Of("vestige_spool_bytes", ("source", "shop")) > 0);
        Assert.InRange(Of("vestige_lag_seconds", ("crossing", "items")), 0, 60);

        // The alert rules that ship speak of measures that there are; some have no value while all is well.
        var rules = await File.ReadAllTextAsync(Path.Combine(Repository(), "docs", "alerts.yaml"), cancellation);
        var told = samples
            .Select(sample => sample[0].GetString()!)
            .Concat(text.Split('\n').Where(line => line.StartsWith("# TYPE ", StringComparison.Ordinal)).Select(line => line.Split(' ')[2]))
            .ToHashSet();
        var named = rules
            .Split([' ', '\n', '{', '[', '(', ')'])
            .Where(word => word.StartsWith("vestige_", StringComparison.Ordinal))
            .Distinct()
            .ToList();
        Assert.True(named.Count > 8);
        Assert.All(named, name => Assert.True(told.Contains(name), name));
    }

    /// <summary>No figure is given for a window longer than what was measured.</summary>
    [Theory]
    [InlineData(600, "5 min", 300)]
    [InlineData(300, "5 min", 300)]
    [InlineData(120, "since 11:58", 120)]
    public void A_window_that_began_before_measuring_says_since_when(int measured, string words, double seconds)
    {
        var (now, delays) = (new DateTimeOffset(2026, 3, 1, 12, 0, 0, TimeSpan.Zero), new Core.Lag.DelayHistogram());
        delays.Record(TimeSpan.FromSeconds(1));
        var window = DelayWindow.Of("5 min", TimeSpan.FromMinutes(5), delays, now - TimeSpan.FromSeconds(measured), now);
        Assert.Equal((words, seconds, 1), (window.Words, window.Window.TotalSeconds, window.Transactions));
        Assert.Equal(measured < 300, window.Since is not null);
    }

    [Fact]
    public async Task Delays_over_long_windows_hold_those_of_the_minute_that_runs_and_forecasts_have_their_ranges()
    {
        await using var vestige = await DemoAsync();
        var measures = JsonSerializer.Deserialize<JsonElement>(
            await vestige.Http.GetStringAsync("/api/v1/crossings/items/measures", cancellation)
        );
        var windows = measures
            .GetProperty("delays")
            .EnumerateArray()
            .Select(window => (window.GetProperty("window").GetDouble(), window.GetProperty("transactions").GetInt64()))
            .ToList();

        // It was measured for less than a minute: that is one window, and says since when.
        var (window, transactions) = Assert.Single(windows);
        Assert.InRange(window, 0, 290);
        Assert.True(transactions > 0);
        Assert.NotNull(measures.GetProperty("delays")[0].GetProperty("since").GetString());

        // Whoever follows fills no spool; at rest there is a range for when it will be full, where anything is written.
        var forecast = JsonSerializer
            .Deserialize<JsonElement>(await vestige.Http.GetStringAsync("/api/v1/crossings/items/status", cancellation))
            .GetProperty("forecast");
        Assert.Equal(
            (JsonValueKind.Null, JsonValueKind.Null),
            (forecast.GetProperty("spoolFullInSeconds").ValueKind, forecast.GetProperty("exhaustedBy").ValueKind)
        );
        Assert.All(["clears", "spoolFull", "logExhausted", "loadEnds"], name =>
            Assert.True(forecast.GetProperty("ranges").GetProperty(name).TryGetProperty("latestSeconds", out _))
        );
    }

    [Fact]
    public async Task Events_are_found_and_taken_as_CSV_and_JSON_Lines()
    {
        await using var vestige = await DemoAsync();
        var lines = (await vestige.Http.GetStringAsync("/events/export?crossing=items", cancellation))
            .TrimEnd('\n')
            .Split('\n')
            .Select(line => JsonSerializer.Deserialize<JsonElement>(line))
            .ToList();
        Assert.Equal("Defined.", lines[^1].GetProperty("text").GetString());
        Assert.True(
            lines
                .Select(line => line.GetProperty("at").GetString())
                .SequenceEqual(lines.Select(line => line.GetProperty("at").GetString()).OrderDescending(StringComparer.Ordinal))
        );

        // Read back by the CSV reader of Python's own library.
        var csv = await vestige.Http.GetStringAsync("/events/export?format=csv&crossing=items", cancellation);
        var rows = JsonSerializer.Deserialize<JsonElement>(
            await PythonAsync(
                "import sys, csv, io, json\nprint(json.dumps(list(csv.DictReader(io.StringIO(sys.stdin.read(), newline='')))))",
                csv
            )
        );
        Assert.Equal(
            lines.Select(line => line.GetProperty("text").GetString()),
            rows.EnumerateArray().Select(row => row.GetProperty("text").GetString())
        );
        Assert.Contains("Loaded", await vestige.Http.GetStringAsync("/events?text=loaded", cancellation), StringComparison.Ordinal);
        Assert.Contains(
            "No matching events.",
            await vestige.Http.GetStringAsync("/events?text=100%25_", cancellation),
            StringComparison.Ordinal
        );
        Assert.Contains(
            "No matching events.",
            await vestige.Http.GetStringAsync("/events?from=2099-01-01", cancellation),
            StringComparison.Ordinal
        );
        Assert.Contains(
            "is not a time",
            WebUtility.HtmlDecode(await vestige.Http.GetStringAsync("/events?from=noon", cancellation)),
            StringComparison.Ordinal
        );
        Assert.Equal(
            HttpStatusCode.UnprocessableEntity,
            (await vestige.Http.GetAsync("/events/export?format=xml", cancellation)).StatusCode
        );
    }

    /// <summary>Refused by its target, a crossing is faulted: the stand-ins are told so, signed, and told when it is over.</summary>
    [Fact]
    public async Task An_alert_is_told_by_webhook_and_e_mail_and_so_is_its_end()
    {
        await using var vestige = await DemoAsync();
        var settings = new
        {
            rules = new[]
            {
                new
                {
                    kind = "faulted",
                    overAfterSeconds = 0,
                    channels = new[] { "hook", "mail" },
                },
            },
            channels = new object[]
            {
                new
                {
                    name = "hook",
                    kind = "webhook",
                    url = $"http://127.0.0.1:{vestige.Port}/stand-in/webhook",
                },
                new
                {
                    name = "mail",
                    kind = "email",
                    host = "127.0.0.1",
                    port = await MailPortAsync(vestige),
                    tls = false,
                    from = "vestige@county.invalid",
                    to = new[] { "on-call@county.invalid" },
                },
            },
            secrets = new { hook = "a key" },
        };
        (await vestige.Http.PutAsJsonAsync("/api/v1/alerts/settings", settings, cancellation)).EnsureSuccessStatusCode();
        Assert.DoesNotContain(
            "a key",
            await vestige.Http.GetStringAsync("/api/v1/alerts/settings", cancellation),
            StringComparison.Ordinal
        );
        await vestige.BenchAsync("copy", "CREATE TRIGGER no BEFORE INSERT ON item BEGIN SELECT RAISE(ABORT, 'the shelf is full'); END");
        await vestige.BenchAsync("shop", "INSERT INTO item VALUES (9, 'ninth')");
        var raised = await ReceivedAsync(vestige, "email: <b>items: faulted</b>", "webhook: <b>1-raised</b>");
        Assert.Contains("the shelf is full", raised, StringComparison.Ordinal);
        Assert.Contains("on-call@county.invalid", raised, StringComparison.Ordinal);
        var standing = await vestige.Http.GetFromJsonAsync<JsonElement>("/api/v1/alerts", cancellation);
        Assert.Equal("faulted", Assert.Single(standing.EnumerateArray()).GetProperty("kind").GetString());
        (
            await vestige.Http.PostAsJsonAsync("/api/v1/alerts/1/acknowledge", new { note = "I see to it", by = "ann" }, cancellation)
        ).EnsureSuccessStatusCode();
        Assert.Contains("Acknowledged by ann", await vestige.Http.GetStringAsync("/", cancellation), StringComparison.Ordinal);

        await vestige.BenchAsync("copy", "DROP TRIGGER no");
        (await vestige.Http.PostAsync("/api/v1/crossings/items/resume", null, cancellation)).EnsureSuccessStatusCode();
        var over = WebUtility.HtmlDecode(await ReceivedAsync(vestige, "email: <b>items: faulted, over</b>", "webhook: <b>1-over</b>"));

        // The signature is over the body exactly as it was sent.
        var body = over[over.IndexOf("{\"number\":1,\"state\":\"over\"", StringComparison.Ordinal)..];
        body = body[..(body.IndexOf("</pre>", StringComparison.Ordinal))];
        var signed = await PythonAsync(
            "import sys, hmac, hashlib\nprint('sha256=' + hmac.new(b'a key', sys.stdin.buffer.read(), hashlib.sha256).hexdigest())",
            body
        );
        Assert.Contains(signed.Trim(), over, StringComparison.Ordinal);
        Assert.Equal(
            HttpStatusCode.Conflict,
            (await vestige.Http.PostAsJsonAsync("/api/v1/alerts/1/acknowledge", new { }, cancellation)).StatusCode
        );
    }

    /// <summary>
    /// What is sent to a collector is OTLP over HTTP: protobuf to /v1/traces and /v1/logs, with the service's name and what the engine did.
    /// </summary>
    [Fact]
    public async Task Traces_and_logs_go_to_a_collector()
    {
        var got = new System.Collections.Concurrent.ConcurrentDictionary<string, string>();
        var builder = WebApplication.CreateSlimBuilder();
        builder.WebHost.UseUrls("http://127.0.0.1:0");
        await using var collector = builder.Build();
        collector.MapPost("/v1/{kind}", async (HttpRequest request) =>
        {
            using var body = new MemoryStream();
            await request.Body.CopyToAsync(body, CancellationToken.None);
            var text = System.Text.Encoding.Latin1.GetString(body.ToArray());
            got.AddOrUpdate($"{request.Path} {request.ContentType}", text, (_, before) => before + text);
        });
        await collector.StartAsync(cancellation);
        await using var vestige = await DemoAsync("--otlp", collector.Urls.First(), "--log-format", "json");
        await vestige.BenchAsync("copy", "CREATE TRIGGER no BEFORE INSERT ON item BEGIN SELECT RAISE(ABORT, 'the shelf is full'); END");
        await vestige.BenchAsync("shop", "INSERT INTO item VALUES (9, 'ninth')");
        bool Has(string path, params string[] words) =>
            got.TryGetValue($"{path} application/x-protobuf", out var body)
            && words.All(word => body.Contains(word, StringComparison.Ordinal));
        for (
            var tries = 0;
            tries < 900 && !(Has("/v1/traces", "vestige", "apply", "items", "spool", "load") && Has("/v1/logs", "vestige", "is faulted"));
            tries++
        )
        {
            await Task.Delay(200, cancellation);
        }

        Assert.True(Has("/v1/traces", "vestige", "apply", "items", "spool", "load"), string.Join(", ", got.Keys));
        Assert.True(Has("/v1/logs", "vestige", "is faulted"), string.Join(", ", got.Keys));
    }

    private async Task<string> ReceivedAsync(RunningVestige vestige, params string[] texts)
    {
        for (var tries = 0; ; tries++)
        {
            var page = await vestige.Http.GetStringAsync("/alerts", cancellation);
            if (texts.All(text => page.Contains(text, StringComparison.Ordinal)))
            {
                return page;
            }

            Assert.True(
                tries < 900,
                $"Waited in vain for {string.Join(", ", texts)}: {page[page.IndexOf("Notifications</h2>", StringComparison.Ordinal)..]}"
            );
            await Task.Delay(200, cancellation);
        }
    }

    [Fact]
    public async Task Measures_are_kept_by_their_steps_and_dropped_when_they_are_older()
    {
        var folder = Directory.CreateTempSubdirectory("vestige-measures-").FullName;
        var factory = new StoreFactory(Path.Combine(folder, "store.db"));
        await factory.MigrateAsync(cancellation);
        var store = new MeasureStore(factory);
        var now = new DateTimeOffset(2026, 3, 1, 8, 30, 0, TimeSpan.Zero);
        MeasureBlock Block(MeasureStep step, DateTimeOffset start, int slots) =>
            new(
                "c",
                step,
                start,
                [
                    .. Enumerable
                        .Range(0, slots)
                        .Select(i => new MeasureSlot(
                            start + (i * step.Slot),
                            1,
                            TimeSpan.FromSeconds(i),
                            default,
                            default,
                            default,
                            i,
                            i,
                            new DelayHistogram()
                        )),
                ]
            );
        AppliedBlock Applied(DateTimeOffset start) =>
            new(
                "c",
                MeasureStep.Hour.SlotOf(start),
                [
                    new(new LogPosition(ulong.MaxValue - 7), start.AddTicks(3)),
                    new(new LogPosition(5), start.AddMinutes(1)),
                    new(new LogPosition(3, 5), start.AddMinutes(2)),
                    new(new LogPosition(4, 1), start.AddMinutes(3)),
                ]
            );
        await store.KeepAsync(
            [
                Block(MeasureStep.Second, now.AddMinutes(-30), 60),
                Block(MeasureStep.Minute, now.AddMinutes(-30), 20),
                Block(MeasureStep.Minute, now.AddDays(-7).AddMinutes(-30), 60),
            ],
            [Applied(now.AddDays(-2)), Applied(now.AddHours(-3)), Applied(now)],
            [new("c", ForecastKind.Load, [new(0.5, false)]), new("c", ForecastKind.SpoolFull, [])],
            now,
            cancellation
        );
        Assert.Equal(
            [.. Applied(now.AddHours(-3)).Times, .. Applied(now).Times],
            await store.AppliedAsync("c", now.AddDays(-9), cancellation)
        );
        await store.KeepAsync(
            [Block(MeasureStep.Minute, now.AddMinutes(-30), 30)],
            [],
            [new("c", ForecastKind.Load, [new(1d / 3, true), new(0, true)])],
            now,
            cancellation
        );
        Assert.Equal(30, (await store.ReadAsync("c", MeasureStep.Minute, now.AddHours(-1), now, cancellation)).Count);
        Assert.Equal(
            [10, 11],
            (
                await store.ReadAsync(
                    "c",
                    MeasureStep.Second,
                    now.AddMinutes(-30).AddSeconds(10),
                    now.AddMinutes(-30).AddSeconds(12),
                    cancellation
                )
            ).Select(slot => (int)slot.Applied)
        );
        Assert.Empty(await store.ReadAsync("other", MeasureStep.Minute, now.AddHours(-1), now, cancellation));
        await store.KeepAsync([], [], [], now.AddDays(2), cancellation);
        Assert.Empty(await store.AppliedAsync("c", now.AddDays(-9), cancellation));
        Assert.Equal(30, (await store.ReadAsync("c", MeasureStep.Minute, now.AddDays(-20), now, cancellation)).Count);
        Assert.Empty(await store.ReadAsync("c", MeasureStep.Second, now.AddDays(-20), now, cancellation));
        Assert.Equal(
            [new(1d / 3, true), new(0, true)],
            (await store.ScoredAsync("c", cancellation)).Single(block => block.Kind == ForecastKind.Load).Judged
        );
        await store.ForgetAsync("c", cancellation);
        Assert.Empty(await store.ScoredAsync("c", cancellation));
        Assert.Empty(await store.ReadAsync("c", MeasureStep.Minute, now.AddDays(-20), now, cancellation));
        Directory.Delete(folder, recursive: true);
    }

    [Fact]
    public async Task What_was_decided_is_kept_sealed_the_latest_first_as_many_and_as_long_as_said()
    {
        var folder = Directory.CreateTempSubdirectory("vestige-decided-").FullName;
        var factory = new StoreFactory(Path.Combine(folder, "store.db"));
        await factory.MigrateAsync(cancellation);
        var store = new QuarantineStore(factory, new TurnedCipher());
        var form = new TableSchema(
            new TableName("s", "t"),
            [new Column("id", "INTEGER", false, 1), new Column("v", "TEXT", true, 0)],
            [],
            []
        );
        var other = form with { Name = new TableName("s", "u") };
        var begin = new DateTimeOffset(2026, 3, 1, 8, 30, 0, TimeSpan.Zero);
        DecidedChange Decided(TableSchema of, int number)
        {
            var writer = new RowWriter();
            writer.Begin(2);
            writer.Integer(number);
            writer.Text("a private value");
            var change = new WaitingChange(
                of,
                new RowChange(ChangeKind.Insert, 0, default, writer.ToRow()),
                new LogPosition((ulong)number),
                0,
                begin,
                begin,
                WaitingState.Refused,
                of.Name,
                "no",
                1,
                begin
            );
            return new DecidedChange(change, number % 2 == 0, "Ann", begin.AddMinutes(number), $"reason {number}");
        }

        await store.WriteAsync("c", [Decided(form, 1).Change], [], [Decided(form, 1), Decided(other, 2)], cancellation);
        await store.WriteAsync("c", [], [], [Decided(form, 3)], cancellation);
        await store.WriteAsync("d", [], [], [Decided(form, 4)], cancellation);
        var found = await store.DecidedAsync("c", null, 2, cancellation);
        Assert.Equal(
            [(3, false, "reason 3"), (2, true, "reason 2")],
            found.Select(one => ((int)one.Change.Position.Offset, one.Dropped, one.Words))
        );
        Assert.Equal(
            ("a private value", begin.AddMinutes(3), "s.t"),
            (found[0].Change.Change.After.TextAt(1), found[0].At, found[0].Change.Table.ToString())
        );
        Assert.Equal([3, 1], (await store.DecidedAsync("c", form.Name, 9, cancellation)).Select(one => (int)one.Change.Position.Offset));
        foreach (var file in Directory.EnumerateFiles(folder))
        {
            await using var open = new FileStream(file, FileMode.Open, FileAccess.Read, FileShare.ReadWrite);
            using var bytes = new MemoryStream();
            await open.CopyToAsync(bytes, cancellation);
            Assert.DoesNotContain("a private value", System.Text.Encoding.UTF8.GetString(bytes.ToArray()), StringComparison.Ordinal);
        }

        await store.ForgetAsync(begin.AddMinutes(2), cancellation);
        Assert.Equal(2, (await store.DecidedAsync("c", null, 9, cancellation)).Count);
        await store.WriteAsync(
            "c",
            [],
            [],
            [.. Enumerable.Range(10, DecidedChange.Kept).Select(number => Decided(form, number))],
            cancellation
        );
        Assert.Equal(DecidedChange.Kept, (await store.DecidedAsync("c", null, int.MaxValue, cancellation)).Count);
        await store.ForgetAsync("c", cancellation);
        Assert.Empty(await store.DecidedAsync("c", null, 9, cancellation));
        Assert.Empty(await store.ReadAsync("c", cancellation));
        Assert.Single(await store.DecidedAsync("d", null, 9, cancellation));
        Directory.Delete(folder, recursive: true);
    }

    /// <summary>Turns every bit, so that nothing is found in a file as it was.</summary>
    private sealed class TurnedCipher : ISpoolCipher
    {
        public byte[] Seal(ReadOnlySpan<byte> plain) => StateChanged(plain);

        public byte[] Open(ReadOnlySpan<byte> secret) => StateChanged(secret);

        private static byte[] StateChanged(ReadOnlySpan<byte> bytes)
        {
            var turned = bytes.ToArray();
            for (var i = 0; i < turned.Length; i++)
            {
                turned[i] = (byte)~turned[i];
            }

            return turned;
        }
    }

    private async Task<RunningVestige> DemoAsync(params string[] more)
    {
        var vestige = await RunningVestige.HostAsync(["--empty", "true", .. more]);
        foreach (var name in new[] { "shop", "copy" })
        {
            await vestige.PostAsync("/api/v1/connections", new { name, kind = "stand-in" });
        }

        await vestige.BenchAsync("shop", "CREATE TABLE item (id INTEGER PRIMARY KEY, name TEXT); INSERT INTO item VALUES (1, 'one')");
        await vestige.PostAsync(
            "/api/v1/crossings",
            new
            {
                name = "items",
                purpose = "copy",
                source = "shop",
                target = "copy",
                tables = new { rules = new[] { new { take = "shop.*" } } },
            }
        );
        await vestige.PostAsync("/api/v1/crossings/items/start");
        await vestige.WaitAsync("items", status => status.GetProperty("state").GetString() == "following", "following");
        await vestige.BenchAsync("shop", "INSERT INTO item VALUES (2, 'two'), (3, 'three')");
        await vestige.WaitAsync(
            "items",
            status => status.GetProperty("tables")[0].GetProperty("changes").GetProperty("insert").GetInt32() == 2,
            "the rows"
        );
        return vestige;
    }

    private static string Repository()
    {
        var folder = new DirectoryInfo(AppContext.BaseDirectory);
        while (!File.Exists(Path.Combine(folder!.FullName, "Vestige.slnx")))
        {
            folder = folder.Parent;
        }

        return folder.FullName;
    }

    private static async Task<int> MailPortAsync(RunningVestige vestige)
    {
        var address = (await vestige.GetAsync("/api/v1/alerts/stand-ins")).GetProperty("mail").GetString()!;
        return int.Parse(address[(address.LastIndexOf(':') + 1)..], System.Globalization.CultureInfo.InvariantCulture);
    }

    private static async Task<string> PythonAsync(string program, string input)
    {
        var start = new ProcessStartInfo("/usr/bin/python3")
        {
            UseShellExecute = false,
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        start.ArgumentList.Add("-c");
        start.ArgumentList.Add(program);
        using var process = Process.Start(start)!;
        var (output, errors) = (process.StandardOutput.ReadToEndAsync(), process.StandardError.ReadToEndAsync());
        await process.StandardInput.WriteAsync(input);
        process.StandardInput.Close();
        await process.WaitForExitAsync();
        var said = await errors;
        Assert.True(process.ExitCode == 0, $"python3 ended with {process.ExitCode}: {said}");
        return await output;
    }
}
