using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>What is done to a source's table while it is followed. SQLite itself says what both files hold.</summary>
public sealed class CarriedChangeTests : IAsyncDisposable
{
    private const string Name = "c";
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;
    private readonly TwoStandIns world = new();
    private int lastColumn;

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
    [InlineData("ALTER TABLE t ADD COLUMN c TEXT DEFAULT 'x'; UPDATE t SET v = 'later'; INSERT INTO t (id, c) VALUES (2, 'y')")]
    [InlineData("ALTER TABLE t ADD COLUMN c INTEGER NOT NULL DEFAULT 7; INSERT INTO t (id, v) VALUES (2, 'y')")]
    [InlineData("UPDATE t SET v = 'before'; ALTER TABLE t RENAME COLUMN v TO w; UPDATE t SET w = w || 'after'")]
    [InlineData("ALTER TABLE t RENAME COLUMN v TO w; ALTER TABLE t ADD COLUMN v TEXT; UPDATE t SET v = 'new'")]
    [InlineData("ALTER TABLE t RENAME COLUMN id TO no; INSERT INTO t VALUES (2, 'y'); ALTER TABLE t RENAME COLUMN no TO id")]
    [InlineData(
        "ALTER TABLE t ADD COLUMN w TEXT DEFAULT 'of w'; ALTER TABLE t RENAME COLUMN v TO x; ALTER TABLE t RENAME COLUMN w TO v; "
            + "ALTER TABLE t RENAME COLUMN x TO w; INSERT INTO t (id, v, w) VALUES (2, 'v', 'w')"
    )]
    public async Task What_is_done_to_a_table_is_done_to_the_copy_and_the_table_goes_on(string statements)
    {
        await BeginAsync();
        await RunAsync(statements);
        await RunAsync("INSERT INTO t (id) VALUES (900); INSERT INTO other VALUES (900, 'beside')");
        await SameAsync();
        Assert.All(Status.Tables, table => Assert.Null(table.Cause));
        Assert.Contains(
            world.Engine.Events.Latest,
            happened => happened.Text.StartsWith("b.t was changed as at the source: ALTER TABLE", StringComparison.Ordinal)
        );
    }

    [Theory]
    [InlineData("ALTER TABLE t ADD COLUMN c TEXT GENERATED ALWAYS AS (v || 'x') VIRTUAL", "column c added")]
    [InlineData("ALTER TABLE t DROP COLUMN v", "column v dropped. A column that is dropped loses its values on the target")]
    [InlineData("DROP TABLE t; CREATE TABLE t (id INTEGER PRIMARY KEY, w TEXT)", "table dropped")]
    public async Task What_may_lose_values_or_cannot_be_told_holds_the_table(string statements, string cause)
    {
        await BeginAsync();
        await RunAsync(statements);
        await RunAsync("INSERT INTO other VALUES (900, 'beside')");
        await UntilAsync(() => Cause("t") is not null, "held");
        Assert.Contains(cause, Cause("t"), StringComparison.Ordinal);
        await UntilAsync(() => Rows("b.db", "other").Contains("beside", StringComparison.Ordinal), "the other table");
    }

    [Fact]
    public async Task A_column_is_dropped_from_the_copy_where_the_crossing_says_so()
    {
        await BeginAsync(changes: [new SchemaChangeRule("*", SchemaChangeAction.Carry, [SchemaChangeKind.ColumnDropped])]);
        await RunAsync("ALTER TABLE t ADD COLUMN c TEXT; UPDATE t SET c = 'x'; ALTER TABLE t DROP COLUMN v; UPDATE t SET c = c || 'y'");
        await SameAsync();
        Assert.Equal("id,c", Columns("b.db", "t"));
        Assert.Null(Cause("t"));
    }

    /// <summary>What was written before and after the change, in its own transaction too, is all there once it is agreed to.</summary>
    [Theory]
    [InlineData("UPDATE t SET v = 'before'; ALTER TABLE t DROP COLUMN v; INSERT INTO t VALUES (2)", "id")]
    [InlineData("INSERT INTO t VALUES (2, 'in'); ALTER TABLE t DROP COLUMN v; INSERT INTO t VALUES (3); DELETE FROM t WHERE id = 1", "id")]
    [InlineData(
        "ALTER TABLE t ADD COLUMN c TEXT; UPDATE t SET c = 'x'; ALTER TABLE t DROP COLUMN v; ALTER TABLE t RENAME COLUMN c TO d",
        "id,d"
    )]
    public async Task A_table_that_is_held_continues_with_all_of_its_changes_once_they_are_agreed_to(string statements, string columns)
    {
        await BeginAsync();
        await RunAsync(statements);
        await RunAsync("INSERT INTO t (id) VALUES (900); INSERT INTO other VALUES (900, 'beside')");
        await UntilAsync(() => Cause("t") is not null, "held");
        Assert.Equal("ALTER TABLE \"t\" DROP COLUMN \"v\"", HeldCause.StatementsOf(Cause("t")!));
        await UntilAsync(() => Rows("b.db", "other").Contains("beside", StringComparison.Ordinal), "the other table");
        Assert.True(Status.Tables.Single(table => table.Source.Name == "t").MayContinue);
        await world.Engine.DisposeAsync();
        await RunAsync("INSERT INTO t (id) VALUES (901)");
        await world.BeginAsync();
        await UntilAsync(() => Status.State == CrossingState.Following && Status.Tables.Any(table => table.MayContinue), "following");
        await world.Engine.Held.AgreeAsync(Name, [new TableName("a", "t")], "test", cancellation);
        await SameAsync();
        Assert.Equal(columns, Columns("b.db", "t"));
        Assert.Null(Cause("t"));
        await RunAsync("INSERT INTO t (id) VALUES (902)");
        await SameAsync();
        var refused = await Assert.ThrowsAsync<RequestRefusedException>(() =>
            world.Engine.Held.AgreeAsync(Name, [new TableName("a", "t")], "test", cancellation)
        );
        Assert.Contains("is not held", refused.Message, StringComparison.Ordinal);
    }

    /// <summary>A transaction that is applied part by part, as it changes many rows.</summary>
    [Theory]
    [InlineData("ALTER TABLE t ADD COLUMN c TEXT; UPDATE t SET c = v || id", false)]
    [InlineData("UPDATE t SET v = v || id; ALTER TABLE t ADD COLUMN c TEXT; UPDATE t SET c = v", false)]
    [InlineData("UPDATE t SET v = v || id; ALTER TABLE t DROP COLUMN v; INSERT INTO t VALUES (30001)", true)]
    public async Task What_is_done_within_a_transaction_of_many_rows_is_done_to_the_copy(string statements, bool waits)
    {
        await BeginAsync();
        await RunAsync(
            "INSERT INTO t WITH RECURSIVE n(i) AS (SELECT 2 UNION ALL SELECT i + 1 FROM n WHERE i < 30000) "
                + "SELECT i, 'some text that is not too short for this' FROM n"
        );
        await SameAsync();
        await RunAsync($"INSERT INTO other VALUES (900, 'beside'); {statements}");
        await UntilAsync(() => Rows("b.db", "other").Contains("beside", StringComparison.Ordinal), "the other table");
        if (waits)
        {
            await UntilAsync(() => Status.Tables.Any(table => table.MayContinue), "held");
            await world.Engine.Held.AgreeAsync(Name, [new TableName("a", "t")], "test", cancellation);
        }

        await SameAsync();
        Assert.Null(Cause("t"));
    }

    [Theory]
    [InlineData("ALTER TABLE t ADD COLUMN c TEXT; UPDATE t SET c = 'x'")]
    [InlineData("DROP TABLE t; CREATE TABLE t (id INTEGER PRIMARY KEY, w TEXT)")]
    public async Task The_crossing_stops_before_a_change_where_a_rule_says_so(string statements)
    {
        await BeginAsync(changes: [new SchemaChangeRule("a.t", SchemaChangeAction.Stop)]);
        await RunAsync("INSERT INTO other VALUES (1, 'before'); ALTER TABLE other ADD COLUMN c TEXT");
        await RunAsync($"{statements}; INSERT INTO other (id, v) VALUES (2, 'after')");
        await UntilAsync(() => Status.State == CrossingState.Faulted, "faulted");
        Assert.Contains("a.t was changed at the source", Status.Fault!.What, StringComparison.Ordinal);
        Assert.Equal("1|before|NULL", Rows("b.db", "other"));
        Assert.Equal("id,v", Columns("b.db", "t"));
    }

    [Fact]
    public async Task What_is_left_out_leaves_the_copy_as_it_is_and_the_table_goes_on()
    {
        var leaves = new SchemaChangeRule(
            "*",
            SchemaChangeAction.LeaveOut,
            [SchemaChangeKind.ColumnAdded, SchemaChangeKind.ColumnDropped, SchemaChangeKind.ColumnRenamed]
        );
        await BeginAsync(changes: [leaves]);
        await RunAsync("ALTER TABLE t ADD COLUMN c TEXT DEFAULT 'x'; UPDATE t SET v = 'added', c = 'y'");
        await UntilAsync(() => Rows("b.db", "t") == "1|added", "the row without the new column");
        await RunAsync("ALTER TABLE t RENAME COLUMN v TO w; INSERT INTO t VALUES (2, 'renamed', 'z')");
        await UntilAsync(() => Rows("b.db", "t").Contains("2|renamed", StringComparison.Ordinal), "the row under the old name");
        await world.Engine.DisposeAsync();
        await RunAsync("ALTER TABLE t DROP COLUMN w; UPDATE t SET c = 'more'; INSERT INTO t VALUES (3, 'last')");
        await world.BeginAsync();
        await UntilAsync(() => Rows("b.db", "t").Contains("3|", StringComparison.Ordinal), "the row without the old column");
        Assert.Equal("1|added 2|renamed 3|NULL", Rows("b.db", "t").ReplaceLineEndings(" ").Trim());
        Assert.Equal("id,v", Columns("b.db", "t"));
        Assert.Null(Cause("t"));
    }

    [Theory]
    [InlineData("ALTER TABLE t RENAME COLUMN v TO w", "filter")]
    [InlineData("ALTER TABLE t DROP COLUMN v", "filter")]
    public async Task What_the_treatment_names_holds_the_table_instead_of_letting_everything_pass(string statement, string why)
    {
        await BeginAsync(
            treatment: [new TreatmentStep("a.t", Keep: "v <> 'secret'")],
            changes: [new SchemaChangeRule("*", SchemaChangeAction.Carry, [SchemaChangeKind.ColumnDropped])]
        );
        await RunAsync($"{statement}; INSERT INTO t (id) VALUES (2)");
        await UntilAsync(() => Cause("t") is not null, "held");
        Assert.Contains($"The treatment names column v ({why} v <> 'secret')", Cause("t"), StringComparison.Ordinal);
        Assert.DoesNotContain('2', Rows("b.db", "t"));
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
        Assert.Contains("b.t could not be: Column c added (TEXT)", Cause("t"), StringComparison.Ordinal);
        await UntilAsync(() => Rows("b.db", "other").Contains("beside", StringComparison.Ordinal), "the other table");
        Assert.Null(Status.Fault);
    }

    /// <summary>Rows and columns as they come, the engine ended and begun again between them, with what was not read meanwhile.</summary>
    [Theory]
    [MemberData(nameof(Seeds))]
    public async Task Rows_and_columns_in_any_order_through_restarts_end_the_same(int seed)
    {
        var random = new Random(seed);
        await BeginAsync(changes: [new SchemaChangeRule("*", SchemaChangeAction.Carry, [SchemaChangeKind.ColumnDropped])]);
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

    private string Statement(Random random, List<string> columns)
    {
        var place = random.Next(columns.Count);
        var column = columns[place];
        switch (random.Next(11))
        {
            case 0 when columns.Count < 30:
                columns.Add($"c{++lastColumn}");
                var value = random.Next(3) == 0 ? $" DEFAULT {random.Next(9)}" : "";
                return $"ALTER TABLE t ADD COLUMN {columns[^1]} {(random.Next(2) == 0 ? "TEXT" : "INTEGER")}{value}";
            case 1 when columns.Count > 1:
                columns.RemoveAt(place);
                return $"ALTER TABLE t DROP COLUMN {column}";
            case 2:
                columns[place] = $"r{++lastColumn}";
                return $"ALTER TABLE t RENAME COLUMN {column} TO {columns[place]}";
            case < 6:
                return $"INSERT OR REPLACE INTO t (id, {column}) VALUES ({random.Next(40)}, 'r{random.Next(1000)}')";
            case < 10:
                return $"UPDATE t SET {column} = 'u{random.Next(1000)}' WHERE id % 3 = {random.Next(3)}";
            default:
                return $"DELETE FROM t WHERE id = {random.Next(40)}";
        }
    }

    private CrossingStatus Status => world.Engine.Status(Name)!;

    private string? Cause(string table) => Status.Tables.FirstOrDefault(one => one.Source.Name == table)?.Cause;

    private async Task BeginAsync(IReadOnlyList<TreatmentStep>? treatment = null, IReadOnlyList<SchemaChangeRule>? changes = null)
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
                Treatment: treatment,
                SchemaChanges: changes
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
