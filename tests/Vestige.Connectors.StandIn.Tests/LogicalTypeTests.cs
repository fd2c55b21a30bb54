using Vestige.Connectors.StandIn.Catalogue;
using Vestige.Core.Changes;
using Vestige.Core.Schemas;
using Vestige.Core.Types;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>
/// What declared types are to other engines: by the examples of the engine's own documentation (Datatypes In SQLite, 3.1.1), and by what
/// the engine itself does with values of other engines in the columns that are declared for them.
/// </summary>
public sealed class LogicalTypeTests : IDisposable
{
    private readonly TemporaryFolder folder = new();

    public void Dispose() => folder.Dispose();

    [Theory]
    [InlineData("INT", LogicalKind.Integer)]
    [InlineData("INTEGER", LogicalKind.Integer)]
    [InlineData("TINYINT", LogicalKind.Integer)]
    [InlineData("SMALLINT", LogicalKind.Integer)]
    [InlineData("MEDIUMINT", LogicalKind.Integer)]
    [InlineData("BIGINT", LogicalKind.Integer)]
    [InlineData("UNSIGNED BIG INT", LogicalKind.Integer)]
    [InlineData("INT2", LogicalKind.Integer)]
    [InlineData("INT8", LogicalKind.Integer)]
    [InlineData("CHARACTER(20)", LogicalKind.Text)]
    [InlineData("VARCHAR(255)", LogicalKind.Text)]
    [InlineData("VARYING CHARACTER(255)", LogicalKind.Text)]
    [InlineData("NCHAR(55)", LogicalKind.Text)]
    [InlineData("NATIVE CHARACTER(70)", LogicalKind.Text)]
    [InlineData("NVARCHAR(100)", LogicalKind.Text)]
    [InlineData("TEXT", LogicalKind.Text)]
    [InlineData("CLOB", LogicalKind.Text)]
    [InlineData("BLOB", LogicalKind.Bytes)]
    [InlineData("", LogicalKind.Any)]
    [InlineData("REAL", LogicalKind.Real)]
    [InlineData("DOUBLE", LogicalKind.Real)]
    [InlineData("DOUBLE PRECISION", LogicalKind.Real)]
    [InlineData("FLOAT", LogicalKind.Real)]
    [InlineData("NUMERIC", LogicalKind.Decimal)]
    [InlineData("DECIMAL(10,5)", LogicalKind.Decimal)]
    [InlineData("BOOLEAN", LogicalKind.Boolean)]
    [InlineData("DATE", LogicalKind.Date)]
    [InlineData("DATETIME", LogicalKind.Timestamp)]
    [InlineData("TIMESTAMP WITH TIME ZONE", LogicalKind.Instant)]
    [InlineData("JSON", LogicalKind.Json)]
    public void Declared_types_are_told_by_their_words(string declared, LogicalKind kind)
    {
        var type = StandInTypes.Instance.TypeOf(new Column("c", declared));
        Assert.Equal(kind, type.Kind);

        // The numbers in parentheses are ignored by the engine (3.1, at its end).
        Assert.Equal((null, null, null, 64), (type.Length, type.Precision, type.Scale, type.Bits));
    }

    public static TheoryData<LogicalType, string> Values =>
        new()
        {
            { LogicalType.Boolean, "t" },
            { LogicalType.Integer with { Bits = 16 }, "-32768" },
            { LogicalType.Integer, "9223372036854775807" },
            { LogicalType.Decimal with { Precision = 40, Scale = 20 }, "12345678901234567890.12345678901234567890" },
            { LogicalType.Decimal, "0.10" },
            { LogicalType.Decimal, "7" },
            { LogicalType.Decimal, "NaN" },
            { LogicalType.Real, "1e+300" },
            { LogicalType.Real with { Bits = 32 }, "0.1" },
            { LogicalType.Real, "3" },
            { LogicalType.Text with { Length = 5 }, "00012" },
            { LogicalType.Text with { Length = 6, Padded = true }, "12    " },
            { LogicalType.Bytes, "\\x00ff" },
            { LogicalType.Date, "2026-02-28" },
            { LogicalType.Time, "24:00:00" },
            { LogicalType.Timestamp, "2026-02-28 08:00:00.000001" },
            { LogicalType.Instant, "2026-02-28 08:00:00+00" },
            { LogicalType.Uuid, "a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11" },
            { LogicalType.Json, "17" },
            { LogicalType.Json, "{\"a\":1.10}" },
            { LogicalType.ListOf(LogicalType.Integer), "{1,2}" },
            { LogicalType.Opaque, "12:00" },
            { LogicalType.Opaque, "0010" },
        };

    [Theory]
    [MemberData(nameof(Values))]
    public async Task A_value_of_another_engine_stands_as_it_was_written_in_the_column_that_is_declared_for_it(
        LogicalType type,
        string text
    )
    {
        ArgumentNullException.ThrowIfNull(type);
        var writer = new RowWriter();
        writer.Begin(1);
        writer.Text(text);
        var there = writer.ToRow();
        writer.Begin(1);
        Assert.True(KindEncoding.Instance.TryWrite(type, there, 0, TextEncoding.Instance, writer));
        var here = writer.ToRow();
        await using var database = StandInDatabase.Open(folder.File("a.db"), "a", new StandInOptions(), TimeProvider.System);
        using (var made = await database.BeginAsync(cancellation: TestContext.Current.CancellationToken))
        {
            made.Run($"CREATE TABLE t (c {StandInTypes.Instance.Declare(type)})");
            object value = here.KindAt(0) switch
            {
                ValueKind.Integer => here.IntegerAt(0),
                ValueKind.Bytes => here.ValueAt(0).ToArray(),
                _ => here.DisplayAt(0),
            };
            made.Run("INSERT INTO t VALUES (?)", value);
            Assert.Equal(here, Assert.Single(made.Query("SELECT c FROM t")));
            made.Commit();
        }

        // And the way back, to the byte where a key may be made of it.
        writer.Begin(1);
        Assert.True(TextEncoding.Instance.TryWrite(type, here, 0, KindEncoding.Instance, writer));
        Assert.Equal(there, writer.ToRow());
    }
}
