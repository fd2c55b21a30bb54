using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Measuring;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>Columns that a source's table gets while it is followed. SQLite itself says what both files hold.</summary>
public sealed class AddedColumnTests : IAsyncDisposable
{
    private const string Name = "c";
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;
    private readonly TwoStandIns world = new();

    public ValueTask DisposeAsync() => world.DisposeAsync();

    /// <summary>A few seeds; as many as there are kills in the full proofs.</summary>
    public static TheoryData<int> Seeds { get; } =
        [.. Enumerable.Range(1, int.Parse(Environment.GetEnvironmentVariable("VESTIGE_KILLS") ?? "3"))];

    [Theory]
    [InlineData("ALTER TABLE t ADD COLUMN c TEXT; INSERT INTO t (id, v, c) VALUES (2, 'y', 'z')")]
    [InlineData("INSERT INTO t (id, v) VALUES (2, 'y'); ALTER TABLE t ADD COLUMN c TEXT; UPDATE t SET c = v; DELETE FROM t WHERE id = 1")]
    [InlineData("ALTER TABLE t ADD COLUMN c TEXT; ALTER TABLE t ADD COLUMN d INTEGER; UPDATE t SET d = 7, c = 'x' WHERE id = 1")]
    [InlineData("ALTER TABLE t ADD COLUMN \"a \"\" b\" ; UPDATE t SET \"a \"\" b\" = 1.5")]
    [InlineData("ALTER TABLE t ADD COLUMN c TEXT")]
    [InlineData("ALTER TABLE t ADD COLUMN c TEXT; DELETE FROM t; INSERT INTO t (id, c) VALUES (1, 'again')")]
    public async Task A_column_that_takes_NULL_is_added_to_the_copy_and_the_table_goes_on(string statements)
    {
        await BeginAsync();
        await RunAsync(statements);
        await RunAsync("INSERT INTO t (id, v) VALUES (900, 'later'); INSERT INTO other VALUES (900, 'beside')");
        await SameAsync();
        Assert.All(Status.Tables, table => Assert.Null(table.Cause));
        Assert.Contains(world.Engine.Events.Latest, happened => happened.Text.StartsWith("Columns added to b.t", StringComparison.Ordinal));
    }

    [Theory]
    [InlineData("ALTER TABLE t ADD COLUMN c TEXT DEFAULT 'x'", "column c added")]
    [InlineData("ALTER TABLE t ADD COLUMN c TEXT NOT NULL DEFAULT 'x'", "column c added")]
    [InlineData("ALTER TABLE t ADD COLUMN c TEXT GENERATED ALWAYS AS (v || 'x') VIRTUAL", "column c added")]
    [InlineData("ALTER TABLE t RENAME COLUMN v TO w", "column v renamed to w")]
    public async Task What_gives_rows_a_value_or_another_meaning_holds_the_table(string statement, string cause)
    {
        await BeginAsync();
        await RunAsync(statement);
        await RunAsync("INSERT INTO other VALUES (900, 'beside')");
        await UntilAsync(() => Cause("t") is not null, "held");
        Assert.Contains(cause, Cause("t"), StringComparison.Ordinal);
        await UntilAsync(() => Rows("b.db", "other").Contains("beside", StringComparison.Ordinal), "the other table");
    }

    [Fact]
    public async Task A_table_with_a_mask_waits_for_a_person()
    {
        await BeginAsync(treatment: [new TreatmentStep("a.t", Mask: [new MaskedColumn("v", MaskMethod.Null)])]);
        await RunAsync("ALTER TABLE t ADD COLUMN secret TEXT; UPDATE t SET secret = 'must not be seen'");
        await UntilAsync(() => Cause("t") is not null, "held");
        Assert.DoesNotContain("must not be seen", Rows("b.db", "t"), StringComparison.Ordinal);
        Assert.DoesNotContain("secret", Columns("b.db", "t"), StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_column_is_added_beside_one_that_has_another_name()
    {
        await BeginAsync(treatment: [new TreatmentStep("a.t", Rename: [new RenamedColumn("v", "w")])]);
        await RunAsync("ALTER TABLE t ADD COLUMN c TEXT; UPDATE t SET c = 'n'");
        await UntilAsync(() => Rows("b.db", "t").Contains('n', StringComparison.Ordinal), "the value");
        Assert.Equal("id,w,c", Columns("b.db", "t"));
    }

    [Fact]
    public async Task A_column_that_the_copy_has_already_holds_the_table_and_says_so()
    {
        await BeginAsync();
        await world.RunAsync(world.B, "ALTER TABLE t ADD COLUMN c INTEGER");
        await RunAsync("ALTER TABLE t ADD COLUMN c TEXT; UPDATE t SET c = 'x'; INSERT INTO other VALUES (900, 'beside')");
        await UntilAsync(() => Cause("t") is not null, "held");
        Assert.Contains("could not be added to b.t", Cause("t"), StringComparison.Ordinal);
        await UntilAsync(() => Rows("b.db", "other").Contains("beside", StringComparison.Ordinal), "the other table");
        Assert.Null(Status.Fault);
    }

    /// <summary>Rows and columns as they come, the engine ended and begun again between them, with what was not read meanwhile.</summary>
    [Theory]
    [MemberData(nameof(Seeds))]
    public async Task Rows_and_columns_in_any_order_through_restarts_end_the_same(int seed)
    {
        var random = new Random(seed);
        await BeginAsync();
        var columns = new List<string> { "v" };
        for (var step = 0; step < 60; step++)
        {
            var statements = new List<string>();
            for (var i = random.Next(1, 5); i > 0; i--)
            {
                statements.Add(Statement(random, columns));
            }

            await RunAsync(string.Join("; ", statements));
            if (random.Next(12) == 0)
            {
                await world.Engine.DisposeAsync();
                await RunAsync(Statement(random, columns));
                await world.BeginAsync();
            }
        }

        await SameAsync();
        Assert.True(Cause("t") is null, $"seed {seed}: {Cause("t")}");
    }

    private static string Statement(Random random, List<string> columns)
    {
        var column = columns[random.Next(columns.Count)];
        switch (random.Next(8))
        {
            case 0 when columns.Count < 30:
                columns.Add($"c{columns.Count}");
                return $"ALTER TABLE t ADD COLUMN {columns[^1]} {(random.Next(2) == 0 ? "TEXT" : "INTEGER")}";
            case < 4:
                return $"INSERT OR REPLACE INTO t (id, {column}) VALUES ({random.Next(40)}, 'r{random.Next(1000)}')";
            case < 7:
                return $"UPDATE t SET {column} = 'u{random.Next(1000)}' WHERE id % 3 = {random.Next(3)}";
            default:
                return $"DELETE FROM t WHERE id = {random.Next(40)}";
        }
    }

    private CrossingStatus Status => world.Engine.Status(Name)!;

    private string? Cause(string table) => Status.Tables.FirstOrDefault(one => one.Source.Name == table)?.Cause;

    private async Task BeginAsync(IReadOnlyList<TreatmentStep>? treatment = null)
    {
        await RunAsync("CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); CREATE TABLE other (id INTEGER PRIMARY KEY, v TEXT)");
        await RunAsync("INSERT INTO t VALUES (1, 'x')");
        await world.BeginAsync();
        await world.Engine.DefineAsync(
            new CrossingDefinition(
                Name,
                CrossingDefinition.Copy,
                "a",
                "b",
                new TableRules([new TableRule(Take: "a.*")]),
                Treatment: treatment
            ),
            "test",
            cancellation
        );
        await world.Engine.RunAsync(Name, "test", cancellation);
        await UntilAsync(() => Status.State == CrossingState.Following, "following");
    }

    private Task RunAsync(string statements) => world.RunAsync(world.A, statements);

    private Task SameAsync() =>
        UntilAsync(
            () =>
                Columns("a.db", "t") == Columns("b.db", "t")
                && Rows("a.db", "t") == Rows("b.db", "t")
                && Rows("a.db", "other") == Rows("b.db", "other"),
            "both sides the same"
        );

    private string Rows(string file, string table) => world.Text(file, $"SELECT * FROM {table} ORDER BY id");

    private string Columns(string file, string table) =>
        world.Text(file, $"SELECT group_concat(name, ',') FROM pragma_table_info('{table}')");

    private Task UntilAsync(Func<bool> holds, string what) => world.WaitAsync(holds, what);
}
