using System.Net.Http.Json;
using System.Text.RegularExpressions;

namespace Vestige.Bench;

/// <summary>
/// Server time of the pages of a schema with very many tables, beside the health address of the same process: the tables of a crossing,
/// and New crossing with a quarter of them ticked one by one. A new process compiles its code while it answers, so what it takes first is
/// printed on a line of its own.
/// </summary>
internal static partial class LargeSchema
{
    private const int Requests = 30;
    private const int Plans = 3;
    private const int TablesAtOnce = 500;

    public static async Task RunAsync(int tables)
    {
        await using var app = await RunningApp.StartAsync();
        await FillAsync(app.Http, tables);
        await FollowingAsync(app.Http);
        var health = await app.TimesAsync("/healthz", Requests);
        Print("health address", health, health, null);
        Print("tables, first page, in a new process", await app.TimesAsync("/crossings/all/tables", Requests), health, null);
        await app.TimesAsync("/crossings/all/tables", Requests);
        Print("tables, first page", await app.TimesAsync("/crossings/all/tables", Requests), health, 100);
        Print("tables, the last page by name", await app.TimesAsync("/crossings/all/tables?sort=name&page=100000", Requests), health, 100);
        Print("tables, found by a part of the name", await app.TimesAsync("/crossings/all/tables?find=_0012", Requests), health, 100);
        Print("tables, live part", await app.TimesAsync("/crossings/all/tables?part=live", Requests), health, 100);
        await NewCrossingAsync(app, tables / 4, health);
    }

    private static async Task NewCrossingAsync(RunningApp app, int ticked, List<double> health)
    {
        var page = await app.Http.GetStringAsync("/crossings/new?source=many&target=other");
        var fields = new Dictionary<string, string>
        {
            ["__RequestVerificationToken"] = Token().Match(page).Groups["token"].Value,
            ["Name"] = "ticked",
            ["Source"] = "many",
            ["Target"] = "other",
            ["Hand"] = string.Join('\n', Enumerable.Range(0, ticked).Select(i => $"many.t_{i:00000}")),
        };
        async Task ShowAsync(string part)
        {
            using var form = new FormUrlEncodedContent(fields);
            using var answer = await app.Http.PostAsync($"/crossings/new?handler=Show&part={part}", form);
            answer.EnsureSuccessStatusCode();
        }

        Print($"New crossing, list with {ticked} ticked", await RunningApp.TimesAsync(() => ShowAsync("tables"), Requests), health, 300);
        Print("New crossing, rows before and after", await RunningApp.TimesAsync(() => ShowAsync("sample"), Requests), health, 300);
        Print($"New crossing, plan of {ticked}", await RunningApp.TimesAsync(() => ShowAsync("consequence"), Plans), health, 12_000);
    }

    private static void Print(string what, List<double> times, List<double> health, double? most) =>
        Console.WriteLine(
            $"{what,-42} p50 {RunningApp.At(times, 0.5),8:0.0} ms, p95 {RunningApp.At(times, 0.95),8:0.0} ms, ratio "
                + $"{RunningApp.At(times, 0.95) / RunningApp.At(health, 0.95):0}{(most is null ? "" : $"  (asked: under {most} ms)")}"
        );

    private static async Task FillAsync(HttpClient http, int tables)
    {
        foreach (var name in new[] { "many", "copy", "other" })
        {
            await SendAsync(http, "/api/v1/connections", new { name, kind = "stand-in" });
        }

        foreach (var some in Enumerable.Range(0, tables).Chunk(TablesAtOnce))
        {
            var statements = some.Select(i =>
                $"CREATE TABLE t_{i:00000} (id INTEGER PRIMARY KEY, name TEXT, amount NUMERIC, changed_at TEXT)"
            );
            await SendAsync(http, "/api/v1/bench/many", new { statement = string.Join(';', statements) });
        }

        await SendAsync(
            http,
            "/api/v1/crossings",
            new
            {
                name = "all",
                purpose = "copy",
                source = "many",
                target = "copy",
                tables = new { rules = new[] { new { take = "many.*" } } },
            }
        );
        await SendAsync(http, "/api/v1/crossings/all/start", new { });
    }

    private static async Task SendAsync(HttpClient http, string path, object body)
    {
        using var answer = await http.PostAsJsonAsync(path, body);
        if (!answer.IsSuccessStatusCode)
        {
            throw new InvalidOperationException($"{path}: {await answer.Content.ReadAsStringAsync()}");
        }
    }

    private static async Task FollowingAsync(HttpClient http)
    {
        for (var tries = 0; tries < 1800; tries++)
        {
            var status = await http.GetFromJsonAsync<Listed>("/api/v1/crossings/all/status");
            if (status!.State == "following")
            {
                return;
            }

            await Task.Delay(1000);
        }

        throw new InvalidOperationException("The crossing does not follow after half an hour.");
    }

    [GeneratedRegex("__RequestVerificationToken[^>]*value=\"(?<token>[^\"]+)\"", RegexOptions.None, matchTimeoutMilliseconds: 1000)]
    private static partial Regex Token();

    private sealed record Listed(string State);
}
