using System.Net;
using System.Net.Http.Json;
using System.Text.Json;
using System.Text.RegularExpressions;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>The pages of the running application as they are sent: none, many, long names, odd characters, errors.</summary>
public sealed partial class PageTests(EmptyVestige empty) : IClassFixture<EmptyVestige>, IAsyncLifetime
{
    private static readonly string LongName = "a-" + string.Concat(Enumerable.Repeat("very-", 11)) + "long";
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;
    private RunningVestige vestige = null!;

    public async ValueTask InitializeAsync() => vestige = await empty.ClearedAsync();

    public ValueTask DisposeAsync() => ValueTask.CompletedTask;

    [Fact]
    public async Task Names_and_values_are_shown_as_they_are_and_never_become_markup()
    {
        await MakeAsync("a", "b");
        await vestige.BenchAsync(
            "a",
            "CREATE TABLE \"<b>odd & 'quoted'</b>\" (id INTEGER PRIMARY KEY, \"col\"\"umn\" TEXT); INSERT INTO \"<b>odd & "
                + "'quoted'</b>\" VALUES (1, '<script>alert(1)</script>')"
        );
        await StartAsync("c");
        var tables = await PageAsync("/crossings/c/tables");
        Assert.Contains("<b>odd & 'quoted'</b>", Text(tables), StringComparison.Ordinal);
        Assert.DoesNotContain("<b>odd", tables, StringComparison.Ordinal);
        var link = TableLink().Match(tables).Groups["address"].Value;
        var row = await PageAsync($"{WebUtility.HtmlDecode(link)}?key=1");
        Assert.Contains("<script>alert(1)</script>", Text(row), StringComparison.Ordinal);
        Assert.DoesNotContain("<script>alert(1)", row, StringComparison.Ordinal);
        Assert.Contains("data-same=\"true\"", row, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_trace_says_which_columns_of_a_key_are_missing_and_finds_a_table_without_its_schema()
    {
        await MakeAsync("a", "b");
        await vestige.BenchAsync(
            "a",
            "CREATE TABLE pair (x INTEGER, y TEXT, v TEXT, PRIMARY KEY (x, y)); INSERT INTO pair VALUES (1, 'one', 'v'); "
                + "CREATE TABLE single (id INTEGER PRIMARY KEY)"
        );
        await StartAsync("c");
        var part = Text(await PageAsync("/trace?connection=a&table=pair&key=1"));
        Assert.Contains("The key of a.pair is x, y: enter 2 values, separated by commas. Missing: y.", part, StringComparison.Ordinal);
        Assert.Contains("not 2", Text(await PageAsync("/trace?connection=a&table=single&key=1,2")), StringComparison.Ordinal);
        var whole = Text(await PageAsync("/trace?connection=a&table=pair&key=1,%20one"));
        Assert.DoesNotContain("Missing:", whole, StringComparison.Ordinal);
        Assert.Contains("c", Text(whole), StringComparison.Ordinal);
        Assert.Contains("Enter the key", Text(await PageAsync("/trace?connection=a&table=a.nowhere")), StringComparison.Ordinal);
    }

    [Fact]
    public async Task The_latest_changes_of_a_quiet_table_are_those_that_came()
    {
        await using var own = vestige = await RunningVestige.StartAsync("--empty", "true");
        await MakeAsync("a", "b");
        await vestige.BenchAsync("a", "CREATE TABLE busy (id INTEGER PRIMARY KEY); CREATE TABLE quiet (id INTEGER PRIMARY KEY)");
        await StartAsync("c");
        await vestige.BenchAsync("a", "INSERT INTO quiet VALUES (4711)");
        await vestige.BenchAsync(
            "a",
            "INSERT INTO busy SELECT value FROM (WITH RECURSIVE n (value) AS (SELECT 1 UNION ALL SELECT value + 1 FROM n "
                + "WHERE value < 200) SELECT value FROM n)"
        );
        await vestige.WaitAsync(
            "c",
            status => status.GetProperty("tables").EnumerateArray().Sum(Inserts) == 201,
            "all applied"
        );
        Assert.Contains("4711", Text(await PageAsync("/crossings/c/tables/a.quiet")), StringComparison.Ordinal);
        vestige.Kill();
        await vestige.LaunchAsync();
        await vestige.WaitAsync("c", status => status.GetProperty("state").GetString() == "following", "following again");
        Assert.Contains("4711", Text(await PageAsync("/crossings/c/tables/a.quiet")), StringComparison.Ordinal);

        // The process's own events, with the kill.
        Assert.Contains(
            "The process before it ended without stopping; it was last active at",
            Text(await PageAsync("/events")),
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task A_load_counts_the_rows_that_it_wrote_beside_those_that_it_read()
    {
        await MakeAsync("a", "b");
        await vestige.BenchAsync("a", "CREATE TABLE t (id INTEGER PRIMARY KEY); INSERT INTO t VALUES (1), (2), (3), (4), (5)");
        var treatment = new[] { new { tables = "a.t", keep = "id <= 3" } };
        var tables = new { rules = new[] { new { take = "a.*" } } };
        await vestige.PostAsync(
            "/api/v1/crossings",
            new
            {
                name = "some",
                purpose = "copy",
                source = "a",
                target = "b",
                tables,
                treatment,
            }
        );
        await vestige.PostAsync("/api/v1/crossings/some/start");
        await vestige.WaitAsync("some", status => status.GetProperty("state").GetString() == "following", "following");
        var events = Text(await PageAsync("/crossings/some/events"));
        Assert.Contains("Loaded 3 rows of 5 read as of position", events, StringComparison.Ordinal);
    }

    private static long Inserts(JsonElement table) => table.GetProperty("changes").GetProperty("insert").GetInt64();

    [Fact]
    public async Task The_theme_of_a_person_goes_before_the_system_s()
    {
        Assert.DoesNotContain("data-theme", await PageAsync("/"), StringComparison.Ordinal);
        using var request = new HttpRequestMessage(HttpMethod.Get, "/");
        request.Headers.Add("Cookie", "vestige-theme=dark");
        using var answer = await vestige.Http.SendAsync(request, cancellation);
        Assert.Contains("data-theme=\"dark\"", await answer.Content.ReadAsStringAsync(cancellation), StringComparison.Ordinal);
        Assert.Contains("name=\"theme\"", await PageAsync("/you"), StringComparison.Ordinal);
        using var odd = new HttpRequestMessage(HttpMethod.Get, "/");
        odd.Headers.Add("Cookie", "vestige-theme=%22%3Ex");
        using var plain = await vestige.Http.SendAsync(odd, cancellation);
        Assert.DoesNotContain("data-theme", await plain.Content.ReadAsStringAsync(cancellation), StringComparison.Ordinal);
    }

    [Fact]
    public async Task The_guide_has_its_pages_and_is_found_by_the_find_box()
    {
        Assert.Contains("Connect a PostgreSQL server", await PageAsync("/guide"), StringComparison.Ordinal);
        Assert.Contains("wal_level", await PageAsync("/guide/connect-postgresql"), StringComparison.Ordinal);
        Assert.Contains("<b>Rows in quarantine</b>", await PageAsync("/guide?find=quarantine"), StringComparison.Ordinal);
        Assert.Contains("/guide/quarantine", await PageAsync("/find?q=quarantine"), StringComparison.Ordinal);
        using var picture = await vestige.Http.GetAsync("/guide/screenshots/fleet.png", cancellation);
        Assert.Equal("image/png", picture.Content.Headers.ContentType!.MediaType);
        using var gone = await vestige.Http.GetAsync("/guide/no-such-page", cancellation);
        Assert.Equal(HttpStatusCode.NotFound, gone.StatusCode);
    }

    [Fact]
    public async Task Some_rows_of_a_table_are_shown_and_a_table_without_any()
    {
        await MakeAsync("a", "b");
        await vestige.BenchAsync(
            "a",
            "CREATE TABLE \"odd <i>/\" (id INTEGER PRIMARY KEY, note TEXT); INSERT INTO \"odd <i>/\" VALUES (1, "
                + "'<script>x</script>'), (2, NULL); CREATE TABLE none (id INTEGER PRIMARY KEY)"
        );
        var connection = await PageAsync("/connections/a");
        Assert.Contains("/connections/a/tables/a.none", connection, StringComparison.Ordinal);
        var rows = await PageAsync($"/connections/a/tables/{Uri.EscapeDataString("a.odd <i>/")}");
        Assert.Contains("<script>x</script>", Text(rows), StringComparison.Ordinal);
        Assert.DoesNotContain("<script>x", rows, StringComparison.Ordinal);
        Assert.Contains("NULL", Text(rows), StringComparison.Ordinal);
        Assert.Contains("The table has no rows.", Text(await PageAsync("/connections/a/tables/a.none")), StringComparison.Ordinal);
        var api = await vestige.GetAsync($"/api/v1/connections/a/rows?table={Uri.EscapeDataString("a.odd <i>/")}&limit=1");
        Assert.Equal(1, api.GetProperty("rows").GetArrayLength());
        Assert.Equal("<script>x</script>", api.GetProperty("rows")[0][1].GetString());
        using var gone = await vestige.Http.GetAsync("/connections/a/tables/a.nothing", cancellation);
        Assert.Equal(HttpStatusCode.NotFound, gone.StatusCode);
    }

    [Fact]
    public async Task Long_names_and_many_tables_are_all_there()
    {
        await MakeAsync("a", "b");
        await vestige.BenchAsync(
            "a",
            string.Concat(Enumerable.Range(0, 120).Select(i => $"CREATE TABLE table_{i:000} (id INTEGER PRIMARY KEY, note TEXT);"))
        );
        await StartAsync(LongName);
        var tables = "";
        for (var page = 1; page <= 3; page++)
        {
            var shown = await PageAsync($"/crossings/{LongName}/tables?part=live&page={page}");
            Assert.InRange(shown.Length, 1_000, 50_000);
            tables += Text(shown);
        }

        Assert.All(Enumerable.Range(0, 120), i => Assert.Contains($"a.table_{i:000}", tables, StringComparison.Ordinal));
        var found = Text(await PageAsync($"/crossings/{LongName}/tables?find=_077"));
        Assert.Contains("a.table_077", found, StringComparison.Ordinal);
        Assert.DoesNotContain("a.table_078", found, StringComparison.Ordinal);
        Assert.Contains(LongName, Text(await PageAsync("/")), StringComparison.Ordinal);
        Assert.Contains("a.table_077", Text(await PageAsync("/find?q=table_077")), StringComparison.Ordinal);
    }

    [Fact]
    public async Task The_plan_reads_before_the_start_and_says_what_is_missing()
    {
        await MakeAsync("a", "b");
        await vestige.BenchAsync(
            "a",
            "CREATE TABLE t (id INTEGER PRIMARY KEY); INSERT INTO t VALUES (1), (2); CREATE TABLE keyless (x TEXT)"
        );
        var plan = Text(await PageAsync("/crossings/new?show=plan&name=c&source=a&target=b&tables=a.t"));
        Assert.Contains("CREATE TABLE \"t\"", plan, StringComparison.Ordinal);
        Assert.Contains("about 2", plan, StringComparison.Ordinal);
        var chosen = await PageAsync("/crossings/new?name=c&source=a&target=b&tables=a.t&changes[ColumnAdded]=Stop&changes[No]=2");
        Assert.Contains("<details class=\"field\" open", chosen, StringComparison.Ordinal);
        Assert.Matches("change-ColumnAdded[^/]*?<option value=\"Stop\" selected", chosen.Replace("/option", "", StringComparison.Ordinal));
        var refused = Text(await PageAsync("/crossings/new?show=plan&name=c&source=a&target=a&tables=a.t"));
        Assert.Contains("target", refused, StringComparison.Ordinal);
        Assert.Contains("no primary key", Text(await PageAsync("/crossings/new?source=a&target=b")), StringComparison.Ordinal);
        Assert.Equal(0, (await vestige.GetAsync("/api/v1/crossings")).GetArrayLength());
    }

    [Fact]
    public async Task A_fault_is_told_on_fleet_and_crossing_with_what_to_do()
    {
        await MakeAsync("a", "b");
        await vestige.BenchAsync("a", "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t VALUES (1, 'x')");
        await StartAsync("c");
        await vestige.BenchAsync("a", "ALTER TABLE t ADD COLUMN w TEXT; ALTER TABLE t DROP COLUMN w; UPDATE t SET v = 'y'");
        await vestige.WaitAsync("c", status => status.GetProperty("tables")[0].GetProperty("state").GetString() == "held", "held");
        var fleet = Text(await PageAsync("/"));
        Assert.Contains("a.t", fleet, StringComparison.Ordinal);
        var held = Text(await PageAsync("/crossings/c/tables"));
        Assert.Contains("held", held, StringComparison.Ordinal);
        Assert.Contains("w", held, StringComparison.Ordinal);
    }

    [Fact]
    public async Task The_tables_page_does_not_wait_for_a_server_that_takes_long_to_count()
    {
        await MakeAsync("a", "b");
        await vestige.BenchAsync("a", "CREATE TABLE t (id INTEGER PRIMARY KEY); INSERT INTO t VALUES (1), (2), (3)");
        await StartAsync("c");
        await PressAsync("/connections/a", "Drill", ("drill", "delay"), ("setting.milliseconds", "10000"));
        var cells = RightCell().Matches(await PageAsync("/crossings/c/tables"));
        Assert.Equal(["–", "3"], cells.Take(2).Select(cell => WebUtility.HtmlDecode(cell.Groups["text"].Value)));
    }

    [Fact]
    public async Task A_lost_place_is_told_as_a_fault_that_only_a_new_load_mends_and_loading_again_goes_on()
    {
        await MakeAsync("a", "b");
        await vestige.BenchAsync("a", "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t VALUES (1, 'x')");
        await StartAsync("c");
        await PressAsync("/connections/a", "Drill", ("drill", "reader"), ("setting.on", "true"));
        await vestige.WaitAsync("c", status => status.GetProperty("lag").GetProperty("atLeast").GetBoolean(), "the stopped reader");
        await vestige.BenchAsync("a", "INSERT INTO t VALUES (2, 'lost')");
        await PressAsync("/connections/a", "Drill", ("drill", "fill"));
        await PressAsync("/connections/a", "Drill", ("drill", "reader"), ("setting.on", "false"));
        await vestige.WaitAsync("c", status => status.GetProperty("state").GetString() == "faulted", "the fault");
        var page = Text(await PageAsync("/crossings/c"));
        Assert.Contains("no longer holds", page, StringComparison.Ordinal);
        Assert.Contains("Reload …", page, StringComparison.Ordinal);
        Assert.DoesNotContain("keeps the source's changes in the spool", page, StringComparison.Ordinal);
        Assert.DoesNotContain(">Resume<", page, StringComparison.Ordinal);
        Assert.Contains("place lost", Text(await PageAsync("/")), StringComparison.Ordinal);
        await vestige.PostAsync("/api/v1/crossings/c/reload", new { tables = Array.Empty<string>() });
        await vestige.WaitAsync("c", status => status.GetProperty("state").GetString() == "following", "following again");
        Assert.Equal(2, (await vestige.BenchAsync("b", "SELECT * FROM t")).Body.GetProperty("rows").GetArrayLength());
    }

    /// <summary>What will be deleted is said before, and a table that is gone never stands for all of them.</summary>
    [Fact]
    public async Task One_table_is_loaded_again_from_its_own_page_and_a_crossing_is_removed_from_another()
    {
        await MakeAsync("a", "b");
        await vestige.BenchAsync(
            "a",
            "CREATE TABLE shelf (id INTEGER PRIMARY KEY); INSERT INTO shelf VALUES (1), (2); CREATE TABLE u (id INTEGER PRIMARY KEY)"
        );
        await StartAsync("c");
        Assert.DoesNotContain("Delete rows", Text(await PageAsync("/crossings/c/stop")), StringComparison.Ordinal);
        var one = Text(await PageAsync("/crossings/c/reload?table=a.shelf"));
        Assert.Contains("b.shelf has 2 rows now", one, StringComparison.Ordinal);
        Assert.Contains("they replace those in one transaction", one, StringComparison.Ordinal);
        Assert.DoesNotContain("Delete rows and reload", one, StringComparison.Ordinal);
        var none = Text(await PageAsync("/crossings/c/reload"));
        Assert.Contains("Tables to load again", none, StringComparison.Ordinal);
        Assert.DoesNotContain("Delete rows and reload", none, StringComparison.Ordinal);
        var all = Text(await PageAsync("/crossings/c/reload?all=true"));
        Assert.Contains("Reload all 2 tables", all, StringComparison.Ordinal);
        Assert.Contains("Vestige deletes 2 rows from", all, StringComparison.Ordinal);
        var gone = Text(await PageAsync("/crossings/c/reload?table=a.gone"));
        Assert.Contains("c has no table <span class=\"mono\">a.gone</span>", gone, StringComparison.Ordinal);
        Assert.DoesNotContain("Delete rows and reload", gone, StringComparison.Ordinal);

        await vestige.BenchAsync("b", "INSERT INTO shelf VALUES (9); INSERT INTO u VALUES (9)");
        Assert.Contains("Nothing was done", await PressAsync("/crossings/c/reload", ""), StringComparison.Ordinal);
        Assert.Contains("Nothing was done", await PressAsync("/crossings/c/reload", "", ("all", "true")), StringComparison.Ordinal);
        Assert.Contains("Nothing was done", await PressAsync("/crossings/c/reload", "", ("table", "a.gone")), StringComparison.Ordinal);
        await PressAsync("/crossings/c/reload", "", ("table", "a.shelf"));
        var counts = "SELECT (SELECT count(*) FROM shelf) || ' ' || (SELECT count(*) FROM u) AS n";
        while ((await vestige.BenchAsync("b", counts)).Body.GetProperty("rows")[0][0].GetString() != "2 1")
        {
            await Task.Delay(50, TestContext.Current.CancellationToken);
        }

        Assert.Contains("Stop it first", Text(await PageAsync("/crossings/c/remove")), StringComparison.Ordinal);
        await vestige.PostAsync("/api/v1/crossings/c/stop", new { manner = "now" });
        await PressAsync("/crossings/c/remove", "", ("typed", "c"));
        Assert.Equal(0, (await vestige.GetAsync("/api/v1/crossings")).GetArrayLength());
    }

    [Fact]
    public async Task A_server_that_does_not_answer_is_told_at_the_rung_that_fails_without_its_secret()
    {
        var settings = new
        {
            host = "127.0.0.1",
            port = "1",
            database = "catalogue",
            user = "reader",
            note = "the cataloguing team",
        };
        var (code, _) = await vestige.PostAsync(
            "/api/v1/connections",
            new
            {
                name = "server",
                kind = "postgresql",
                settings,
                secret = new { password = "Pq4-hidden" },
            }
        );
        Assert.Equal(HttpStatusCode.Created, code);
        var page = Text(await PageAsync("/connections/server"));
        Assert.Contains("catalogue on a PostgreSQL server at 127.0.0.1 (the cataloguing team)", page, StringComparison.Ordinal);
        Assert.Contains("Connecting to 127.0.0.1 port 1", page, StringComparison.Ordinal);
        Assert.Contains("The tables cannot be read.", page, StringComparison.Ordinal);
        Assert.DoesNotContain("sign-in", page, StringComparison.Ordinal);
        Assert.DoesNotContain("Pq4-hidden", page, StringComparison.Ordinal);
        await MakeAsync("b");
        var plan = Text(await PageAsync("/crossings/new?show=plan&name=c&source=b&target=server&tables=b.t"));
        Assert.Contains("port 1", plan, StringComparison.Ordinal);
        Assert.DoesNotContain("Pq4-hidden", plan, StringComparison.Ordinal);
        var (refused, problem) = await vestige.PostAsync(
            "/api/v1/connections",
            new
            {
                name = "other",
                kind = "postgresql",
                settings = new { host = "h", port = "0" },
            }
        );
        Assert.Equal(HttpStatusCode.UnprocessableEntity, refused);
        Assert.Contains("settings.port", problem.ToString(), StringComparison.Ordinal);
    }

    /// <summary>What was typed and cannot be read is refused, and is not taken for a field that was left empty.</summary>
    [Fact]
    public async Task What_cannot_be_read_changes_nothing()
    {
        await MakeAsync("a", "b");
        await vestige.PostAsync("/api/v1/bench/a", new { statement = "CREATE TABLE t (id INTEGER PRIMARY KEY)" });
        await StartAsync("c");
        Assert.Contains("In force.", await PressAsync("/crossings/c/pace", "Limits", ("perSecond", "50")), StringComparison.Ordinal);
        Assert.Contains(
            "perSecond: 'fast' cannot be read.",
            await PressAsync("/crossings/c/pace", "Limits", ("perSecond", "fast")),
            StringComparison.Ordinal
        );
        Assert.Contains(
            "hours: 'a day' cannot be read.",
            await PressAsync("/crossings/c/reconcile", "Rule", ("always", "true"), ("hours", "a day")),
            StringComparison.Ordinal
        );
        Assert.Contains("\"changesPerSecond\":50", await PageAsync("/api/v1/crossings/c"), StringComparison.Ordinal);
        Assert.DoesNotContain("reconcile", await PageAsync("/api/v1/crossings/c"), StringComparison.Ordinal);
        Assert.Contains(
            "'soon' is not a time of day",
            await PressAsync("/alerts", "Rules", ("quietFrom", "soon"), ("quietTo", "07:00")),
            StringComparison.Ordinal
        );
        Assert.Contains("'long' is not a duration", await PressAsync("/alerts", "Rules", ("for-0", "long")), StringComparison.Ordinal);
        Assert.Contains(
            "The rules are saved.",
            await PressAsync("/alerts", "Rules", ("quietFrom", "22:00"), ("quietTo", "07:00")),
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task Every_answer_carries_the_policy_that_forbids_inline_scripts()
    {
        foreach (var path in new[] { "/", "/crossings/nowhere", "/api/v1/crossings", "/css/vestige.css" })
        {
            using var answer = await vestige.Http.GetAsync(path, cancellation);
            var policy = string.Join(' ', answer.Headers.GetValues("Content-Security-Policy"));
            Assert.Contains("default-src 'none'; script-src 'self'", policy, StringComparison.Ordinal);
            Assert.DoesNotContain("unsafe", policy, StringComparison.Ordinal);
            Assert.Equal("nosniff", answer.Headers.GetValues("X-Content-Type-Options").Single());
        }
    }

    [GeneratedRegex(
        "name=\"__RequestVerificationToken\"[^>]*value=\"(?<token>[^\"]+)\"",
        RegexOptions.None,
        matchTimeoutMilliseconds: 1000
    )]
    private static partial Regex Token();

    [GeneratedRegex("href=\"(?<address>/crossings/c/tables/[^\"]+)\"", RegexOptions.None, matchTimeoutMilliseconds: 1000)]
    private static partial Regex TableLink();

    [Fact]
    public async Task A_handler_that_a_page_does_not_have_is_not_found()
    {
        await MakeAsync("a", "b");
        await vestige.BenchAsync("a", "CREATE TABLE t (id INTEGER PRIMARY KEY)");
        await StartAsync("c");
        var token = Token().Match(await PageAsync("/connections/a")).Groups["token"].Value;
        string[] paths =
        [
            "/",
            "/connections",
            "/connections/a",
            "/connections/a/tables/a.t",
            "/bench/a",
            "/crossings/new",
            "/crossings/c",
            "/crossings/c/tables",
            "/crossings/c/stop",
            "/crossings/c/reload",
            "/crossings/c/remove",
            "/alerts",
            "/events",
            "/trace",
        ];
        foreach (var path in paths)
        {
            using var content = new FormUrlEncodedContent([KeyValuePair.Create("__RequestVerificationToken", token)]);
            using var posted = await vestige.Http.PostAsync($"{path}?handler=Nothing", content, cancellation);
            Assert.True((int)posted.StatusCode < 500, path);
            using var read = await vestige.Http.GetAsync($"{path}?handler=Nothing", cancellation);
            Assert.True((int)read.StatusCode < 500, path);
        }
    }

    private static string Text(string html) => WebUtility.HtmlDecode(html);

    private async Task<string> PageAsync(string path)
    {
        using var answer = await vestige.Http.GetAsync(path, cancellation);
        var html = await answer.Content.ReadAsStringAsync(cancellation);
        Assert.True(answer.IsSuccessStatusCode, $"{path}: {answer.StatusCode} {html}");
        return html;
    }

    /// <summary>Sends a form of a page, as its button does.</summary>
    private async Task<string> PressAsync(string path, string handler, params (string Name, string Value)[] fields)
    {
        var token = Token().Match(await PageAsync(path)).Groups["token"].Value;
        var body = fields
            .Append((Name: "__RequestVerificationToken", Value: token))
            .Select(field => KeyValuePair.Create(field.Name, field.Value));
        using var content = new FormUrlEncodedContent(body);
        using var answer = await vestige.Http.PostAsync($"{path}?handler={handler}", content, cancellation);
        Assert.True(answer.IsSuccessStatusCode, $"{path} {handler}: {answer.StatusCode}");
        return Text(await answer.Content.ReadAsStringAsync(cancellation));
    }

    private async Task MakeAsync(params string[] names)
    {
        foreach (var name in names)
        {
            await vestige.PostAsync("/api/v1/connections", new { name, kind = "stand-in" });
        }
    }

    private async Task StartAsync(string name)
    {
        await vestige.Http.PostAsJsonAsync(
            "/api/v1/crossings",
            new
            {
                name,
                purpose = "copy",
                source = "a",
                target = "b",
                tables = new { rules = new[] { new { take = "a.*" } } },
            },
            cancellation
        );
        var (code, body) = await vestige.PostAsync($"/api/v1/crossings/{name}/start");
        Assert.True((int)code < 300, body.ToString());
        await vestige.WaitAsync(name, status => status.GetProperty("state").GetString() == "following", "following");
    }

    [GeneratedRegex("<td class=\"r\">(?<text>[^<]*)</td>", RegexOptions.None, matchTimeoutMilliseconds: 1000)]
    private static partial Regex RightCell();
}
