using System.Net;
using System.Net.Http.Json;
using System.Text.Json;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>Tables that come to a crossing at work and leave it, and changes that wait for a person, over HTTP.</summary>
public sealed class CrossingTablesTests(EmptyVestige empty) : IClassFixture<EmptyVestige>, IAsyncLifetime
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;
    private RunningVestige vestige = null!;

    public async ValueTask InitializeAsync()
    {
        vestige = await empty.ClearedAsync();
        foreach (var name in new[] { "a", "b" })
        {
            await vestige.PostAsync("/api/v1/connections", new { name, kind = "stand-in" });
        }

        await vestige.BenchAsync(
            "a",
            "CREATE TABLE one (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO one VALUES (1, 'x'); CREATE TABLE two (id INTEGER PRIMARY KEY, "
                + "w TEXT); INSERT INTO two VALUES (1, 'y')"
        );
        await vestige.PostAsync(
            "/api/v1/crossings",
            new
            {
                name = "c",
                purpose = "copy",
                source = "a",
                target = "b",
                tables = new { rules = new[] { new { take = "a.one" } } },
            }
        );
        await vestige.PostAsync("/api/v1/crossings/c/start");
        await vestige.WaitAsync("c", status => Word(status) == "following", "following");
    }

    public ValueTask DisposeAsync() => ValueTask.CompletedTask;

    [Fact]
    public async Task A_table_comes_leaves_and_comes_again_while_the_other_follows()
    {
        Assert.Equal(HttpStatusCode.OK, await AddAsync("a.two"));
        await vestige.WaitAsync("c", status => Stands(status, "a.two", "following"), "the new table");
        Assert.Equal("""[["1","y"]]""", await RowsAsync("two"));

        Assert.Equal(HttpStatusCode.OK, await DeleteAsync("?table=a.two"));
        Assert.Equal(1, (await vestige.StatusAsync("c")).GetProperty("tables").GetArrayLength());
        await vestige.BenchAsync("a", "INSERT INTO two VALUES (2, 'after'); INSERT INTO one VALUES (2, 'after')");
        await vestige.WaitAsync("c", status => Count(status, "a.one", "insert") == 1, "the other table");
        Assert.Equal("""[["1","y"]]""", await RowsAsync("two"));

        var (code, refused) = await vestige.PostAsync("/api/v1/crossings/c/tables", new { tables = new[] { "a.two" } });
        Assert.True(code == HttpStatusCode.Conflict, refused.ToString());
        Assert.Contains("b.two", refused.ToString(), StringComparison.Ordinal);
        await vestige.BenchAsync("b", "DROP TABLE two");
        Assert.Equal(HttpStatusCode.OK, await AddAsync("a.two"));
        await vestige.WaitAsync("c", status => Stands(status, "a.two", "following"), "the table again");
        Assert.Equal("""[["1","y"],["2","after"]]""", await RowsAsync("two"));

        Assert.Equal(HttpStatusCode.Conflict, await DeleteAsync("?table=a.two&keep=false"));
        Assert.Equal(HttpStatusCode.OK, await DeleteAsync("?table=a.two&keep=false&confirm=c"));
        Assert.Equal("[]", await RowsAsync("(SELECT name FROM sqlite_schema WHERE name = 'two')"));
        Assert.Equal(HttpStatusCode.Conflict, await DeleteAsync("?table=a.one"));
        Assert.Equal(HttpStatusCode.Conflict, await DeleteAsync("?table=a.three"));
        Assert.Equal(HttpStatusCode.Conflict, await DeleteAsync(""));
        await vestige.BenchAsync("a", "INSERT INTO one VALUES (3, 'last')");
        await vestige.WaitAsync("c", status => Word(status) == "following" && Lag(status) == 0, "following");
        Assert.Equal("""[["1","x"],["2","after"],["3","last"]]""", await RowsAsync("one"));
    }

    /// <summary>A mask that went with its table would be missing when the table comes again.</summary>
    [Fact]
    public async Task Steps_for_a_table_stay_when_it_leaves_and_are_there_when_it_comes_again()
    {
        using var put = new HttpRequestMessage(HttpMethod.Put, "/api/v1/crossings/c?confirm=true")
        {
            Content = JsonContent.Create(
                new
                {
                    name = "c",
                    purpose = "copy",
                    source = "a",
                    target = "b",
                    tables = new { rules = new[] { new { take = "a.one" }, new { take = "a.two" } } },
                    treatment = new[] { new { tables = "a.two", mask = new[] { new { column = "w", by = "fixed", value = "***" } } } },
                }
            ),
        };
        put.Headers.TryAddWithoutValidation("If-Match", "*");
        Assert.Equal(HttpStatusCode.OK, (await vestige.Http.SendAsync(put, cancellation)).StatusCode);
        await vestige.WaitAsync("c", status => Stands(status, "a.two", "following"), "both");
        Assert.Equal(HttpStatusCode.OK, await DeleteAsync("?table=a.two&keep=false&confirm=c"));
        await vestige.BenchAsync("a", "CREATE TABLE three (id INTEGER PRIMARY KEY)");
        Assert.Equal(HttpStatusCode.OK, await AddAsync("a.three"));
        Assert.Equal(HttpStatusCode.OK, await AddAsync("a.two"));
        await vestige.WaitAsync("c", status => Stands(status, "a.two", "following") && Stands(status, "a.three", "following"), "all");
        Assert.Equal("""[["1","***"]]""", await RowsAsync("two"));
    }

    [Fact]
    public async Task Only_what_is_there_and_can_be_replicated_comes()
    {
        await vestige.BenchAsync("b", "CREATE TABLE two (id INTEGER PRIMARY KEY, w TEXT); INSERT INTO two VALUES (7, 'theirs')");
        foreach (var tables in new[] { new[] { "a.two" }, ["a.none"], ["a.*"], [] })
        {
            var (code, problem) = await vestige.PostAsync("/api/v1/crossings/c/tables", new { tables });
            Assert.True(code is HttpStatusCode.Conflict, $"{string.Join(',', tables)}: {code} {problem}");
        }

        Assert.Equal(1, (await vestige.StatusAsync("c")).GetProperty("tables").GetArrayLength());
        Assert.Equal("""[["7","theirs"]]""", await RowsAsync("two"));
        Assert.Equal("following", Word(await vestige.StatusAsync("c")));
    }

    [Theory]
    [InlineData("agree", """[["1"],["2"]]""")]
    [InlineData("leave-out", """[["1","x"],["2","NULL"]]""")]
    public async Task A_change_that_waits_is_listed_and_decided(string decision, string rows)
    {
        await vestige.BenchAsync("a", "ALTER TABLE one DROP COLUMN v");
        await vestige.BenchAsync("a", "INSERT INTO one VALUES (2)");
        await vestige.WaitAsync("c", status => Stands(status, "a.one", "held"), "held");
        var waiting = (await vestige.GetAsync("/api/v1/crossings/c/schema-changes"))[0];
        Assert.Equal("a.one", waiting.GetProperty("id").GetString());
        Assert.Equal("ALTER TABLE \"one\" DROP COLUMN \"v\"", waiting.GetProperty("statements")[0].GetString());
        Assert.True(waiting.GetProperty("mayLeaveOut").GetBoolean());
        var version = (await vestige.GetAsync("/api/v1/connections/a/schema-history?table=a.one"))[0];
        Assert.Equal((2, "exact"), (version.GetProperty("version").GetInt32(), version.GetProperty("known").GetString()));
        Assert.Equal(waiting.GetProperty("position").GetString(), version.GetProperty("from").GetProperty("latest").GetString());

        Assert.Equal(HttpStatusCode.OK, (await vestige.PostAsync($"/api/v1/crossings/c/schema-changes/a.one/{decision}")).Code);
        await vestige.WaitAsync("c", status => Stands(status, "a.one", "following") && Lag(status) == 0, "following");
        Assert.Equal(rows, await RowsAsync("one"));
        Assert.Equal(0, (await vestige.GetAsync("/api/v1/crossings/c/schema-changes")).GetArrayLength());
        Assert.Equal(HttpStatusCode.Conflict, (await vestige.PostAsync($"/api/v1/crossings/c/schema-changes/a.one/{decision}")).Code);
    }

    /// <summary>What the definition that is tried says has happened to nothing; what would have come of it is counted and named.</summary>
    [Fact]
    public async Task Another_definition_is_tried_on_what_was_replicated()
    {
        await vestige.BenchAsync(
            "a",
            "INSERT INTO one VALUES (2, '5'), (3, 'c'); UPDATE one SET v = '7' WHERE id = 3; DELETE FROM one WHERE id = 1"
        );
        await vestige.WaitAsync("c", status => Count(status, "a.one", "delete") == 1, "applied");
        foreach (
            var (step, expected) in new (object Step, string Expected)[]
            {
                (new { tables = "a.one", keep = "id <> 2" }, "same 3, leftOut 1"),
                (new { tables = "a.one", rename = new[] { new { column = "v", to = "w" } } }, "changed 4"),
                (
                    new { tables = "a.one", compute = new[] { new { column = "n", type = "INTEGER", @as = "cast(v as integer)" } } },
                    "changed 1, refused 3"
                ),
                (new { tables = "a.one", keep = "nothing = 1" }, "problem"),
            }
        )
        {
            var (code, trial) = await vestige.PostAsync("/api/v1/crossings/c/try", Definition(step));
            Assert.True(code == HttpStatusCode.OK, trial.ToString());
            var table = trial.GetProperty("tables")[0];
            var found = new[] { "same", "leftOut", "added", "changed", "refused" }
                .Where(effect => table.GetProperty(effect).GetInt64() > 0)
                .Select(effect => $"{effect} {table.GetProperty(effect).GetInt64()}");
            Assert.Equal(expected, table.GetProperty("problem").GetString() is null ? string.Join(", ", found) : "problem");
        }

        var (_, left) = await vestige.PostAsync("/api/v1/crossings/c/try", Definition(new { tables = "a.one", keep = "id <> 2" }));
        Assert.Equal("2", left.GetProperty("tables")[0].GetProperty("examples")[0].GetProperty("key").GetString());
        Assert.Equal("""[["2","5"],["3","7"]]""", await RowsAsync("one"));
        Assert.Equal(
            HttpStatusCode.UnprocessableEntity,
            (await vestige.PostAsync("/api/v1/crossings/c/try?hours=0", Definition(new { tables = "a.one", keep = "id <> 2" }))).Code
        );
    }

    private static object Definition(object step) =>
        new
        {
            name = "c",
            purpose = "copy",
            source = "a",
            target = "b",
            tables = new { rules = new[] { new { take = "a.one" } } },
            treatment = new[] { step },
        };

    private async Task<string> RowsAsync(string table) =>
        (await vestige.BenchAsync("b", $"SELECT * FROM {table} ORDER BY 1")).Body.GetProperty("rows").GetRawText();

    private async Task<HttpStatusCode> AddAsync(string table) =>
        (await vestige.PostAsync("/api/v1/crossings/c/tables", new { tables = new[] { table } })).Code;

    private async Task<HttpStatusCode> DeleteAsync(string query) =>
        (await vestige.Http.DeleteAsync(new Uri($"/api/v1/crossings/c/tables{query}", UriKind.Relative), cancellation)).StatusCode;

    private static string Word(JsonElement status) => status.GetProperty("state").GetString()!;

    private static double Lag(JsonElement status) => status.GetProperty("lag").GetProperty("seconds").GetDouble();

    private static bool Stands(JsonElement status, string table, string state) =>
        status
            .GetProperty("tables")
            .EnumerateArray()
            .Any(one => one.GetProperty("source").GetString() == table && one.GetProperty("state").GetString() == state);

    private static int Count(JsonElement status, string table, string kind) =>
        status
            .GetProperty("tables")
            .EnumerateArray()
            .First(one => one.GetProperty("source").GetString() == table)
            .GetProperty("changes")
            .GetProperty(kind)
            .GetInt32();
}
