using System.Buffers;
using System.Globalization;
using System.Text;
using CsCheck;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Expressions;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Core.Types;
using Xunit;

namespace Vestige.Core.Tests;

/// <summary>Values that go from one engine into another: the same value, or refused.</summary>
public class TranscribingTests
{
    /// <summary>
    /// What an engine whose rows hold texts gets; the forms are those that PostgreSQL itself writes (manual, Data Types).
    /// </summary>
    [Theory]
    [InlineData(ExpressionType.Integer, 42L, "42")]
    [InlineData(ExpressionType.Integer, long.MinValue, "-9223372036854775808")]
    [InlineData(ExpressionType.Integer, 1.5, null)]
    [InlineData(ExpressionType.Integer, "forty", null)]
    [InlineData(ExpressionType.Boolean, 1L, "t")]
    [InlineData(ExpressionType.Boolean, 0L, "f")]
    [InlineData(ExpressionType.Boolean, 2L, null)]
    [InlineData(ExpressionType.Boolean, "maybe", null)]
    [InlineData(ExpressionType.Decimal, 0.1, "0.1")]
    [InlineData(ExpressionType.Decimal, 1e20, "100000000000000000000")]
    [InlineData(ExpressionType.Decimal, 7L, "7")]
    [InlineData(ExpressionType.Decimal, "seven", null)]
    [InlineData(ExpressionType.Real, 1e20, "1e+20")]
    [InlineData(ExpressionType.Real, 0.00001, "1e-05")]
    [InlineData(ExpressionType.Real, double.PositiveInfinity, "Infinity")]
    [InlineData(ExpressionType.Real, "x", null)]
    [InlineData(ExpressionType.Text, "", "")]
    [InlineData(ExpressionType.Text, "blank ", "blank ")]
    [InlineData(ExpressionType.Text, 5L, null)]
    [InlineData(ExpressionType.Date, "2026-02-28", "2026-02-28")]
    [InlineData(ExpressionType.Date, "2026-02-30", null)]
    [InlineData(ExpressionType.Date, "28.2.2026", null)]
    [InlineData(ExpressionType.Date, "2026-02-28 00:00:00", null)]
    [InlineData(ExpressionType.Date, 1772236800L, null)]
    [InlineData(ExpressionType.Timestamp, "2026-02-28T08:00:00", "2026-02-28 08:00:00")]
    [InlineData(ExpressionType.Timestamp, "2026-02-28 08:00:00.120000", "2026-02-28 08:00:00.12")]
    [InlineData(ExpressionType.Timestamp, "2026-02-28 08:00:00.1234567", null)]
    [InlineData(ExpressionType.Timestamp, "2026-02-28 08:00:00Z", null)]
    [InlineData(ExpressionType.Instant, "2026-02-28 08:00:00+01", "2026-02-28 07:00:00+00")]
    [InlineData(ExpressionType.Instant, "2026-02-28 08:00:00", null)]
    [InlineData(ExpressionType.Bytes, "text where bytes belong", null)]
    public void Into_an_engine_of_texts(ExpressionType type, object value, string? expected)
    {
        var row = Of(value);
        if (expected is null)
        {
            var refused = Assert.Throws<EvaluationException>(() => Written(row, type, fromText: false, intoText: true));
            Assert.StartsWith("the value of c is not of the type ", refused.Message, StringComparison.Ordinal);
            Assert.DoesNotContain(row.DisplayAt(0), refused.Message, StringComparison.Ordinal);
        }
        else
        {
            Assert.Equal((ValueKind.Text, expected), Shown(Written(row, type, fromText: false, intoText: true)));
        }
    }

    [Theory]
    [InlineData(ExpressionType.Integer, "-7", -7L)]
    [InlineData(ExpressionType.Boolean, "t", 1L)]
    [InlineData(ExpressionType.Boolean, "f", 0L)]
    [InlineData(ExpressionType.Real, "1e-05", 0.00001)]
    [InlineData(ExpressionType.Real, "-Infinity", double.NegativeInfinity)]
    [InlineData(ExpressionType.Real, "NaN", null)]
    [InlineData(ExpressionType.Decimal, "0.10", "0.10")]
    [InlineData(ExpressionType.Decimal, "NaN", "NaN")]
    [InlineData(ExpressionType.Text, "ab  ", "ab  ")]
    [InlineData(ExpressionType.Date, "0044-03-15 BC", "0044-03-15 BC")]
    [InlineData(ExpressionType.Instant, "infinity", "infinity")]
    [InlineData(ExpressionType.Other, "{1,NULL}", "{1,NULL}")]
    public void Into_an_engine_of_numbers_and_texts(ExpressionType type, string text, object? expected)
    {
        if (expected is null)
        {
            Assert.Contains(
                "NaN",
                Assert.Throws<EvaluationException>(() => Written(Of(text), type, fromText: true, intoText: false)).Message,
                StringComparison.Ordinal
            );
            return;
        }

        Assert.Equal(Of(expected), Written(Of(text), type, fromText: true, intoText: false));
    }

    [Fact]
    public void Bytes_are_digits_there_and_bytes_again_here()
    {
        var row = OfBytes([0, 255, 16]);
        var there = Written(row, ExpressionType.Bytes, fromText: false, intoText: true);
        Assert.Equal((ValueKind.Text, "\\x00ff10"), Shown(there));
        Assert.Equal(row, Written(there, ExpressionType.Bytes, fromText: true, intoText: false));
    }

    [Fact]
    public void Nothing_stays_nothing_and_what_the_log_left_out_is_left_out()
    {
        foreach (var intoText in new[] { false, true })
        {
            Assert.Equal(ValueKind.Null, Written(Of((object?)null), ExpressionType.Integer, !intoText, intoText).KindAt(0));
            Assert.Equal(ValueKind.Absent, Written(TextRow.Of(TextRow.Absent), ExpressionType.Integer, !intoText, intoText).KindAt(0));
        }
    }

    /// <summary>
    /// Whatever crosses is the same value by the canonical form; and where a key may be made of it, it comes back to the byte.
    /// </summary>
    [Fact]
    public void What_crosses_is_the_same_value_on_both_sides()
    {
        var values = Gen.OneOf<(ExpressionType, object)>(
            Gen.Long.Select(number => (ExpressionType.Integer, (object)number)),
            Gen.Double.Select(number => (ExpressionType.Real, (object)(double.IsNaN(number) ? 0.5 : number))),
            Gen.Double[-1e30, 1e30].Select(number => (ExpressionType.Decimal, (object)number)),
            Gen.Long.Select(number => (ExpressionType.Decimal, (object)number)),
            Gen.String.Select(text => (ExpressionType.Text, (object)Encoding.UTF8.GetString(Encoding.UTF8.GetBytes(text)))),
            Gen.Bool.Select(truth => (ExpressionType.Boolean, (object)(truth ? 1L : 0L))),
            Gen.Int[-700_000, 2_000_000].Select(days => (ExpressionType.Date, (object)CivilTime.FormatDate(days))),
            Gen.Long[-60_000_000_000_000_000, 200_000_000_000_000_000]
                .Select(at =>
                    (
                        ExpressionType.Timestamp,
                        (object)CivilTime.FormatTimestamp(at).Replace(' ', 'T').Replace("TBC", " BC", StringComparison.Ordinal)
                    )
                ),
            Gen.Byte.Array[0, 40].Select(bytes => (ExpressionType.Bytes, (object)bytes))
        );
        values.Sample(
            pair =>
            {
                var (type, value) = pair;
                var meant = LogicalType.Of(new ColumnMeaning(type));
                var row = value is byte[] bytes ? OfBytes(bytes) : Of(value);
                var there = Written(row, type, fromText: false, intoText: true);
                Assert.Equal(ValueKind.Text, there.KindAt(0));
                Assert.Equal(Canonical(meant, row), Canonical(meant, there));
                var transcriber = new ValueTranscriber("c", meant, KindEncoding.Instance, TextEncoding.Instance);
                if (transcriber.GoesBack)
                {
                    Assert.Equal(row, Written(transcriber.Back, there));
                }
            },
            iter: 20_000
        );
    }

    [Fact]
    public void Steps_work_on_what_the_source_says_and_the_target_gets_its_own_form()
    {
        var source = new TableSchema(
            new TableName("s", "t"),
            [new Column("id", "INTEGER", Nullable: false, KeyOrdinal: 1), new Column("price", "NUMERIC"), new Column("label", "TEXT")],
            [new UniqueKey(["label"])],
            []
        );
        TreatmentStep[] steps =
        [
            new TreatmentStep("*", Keep: "price > 1.5"),
            new TreatmentStep("*", Compute: [new ComputedColumn("twice", "price * 2")]),
            new TreatmentStep("*") { Mask = [new MaskedColumn("label", MaskMethod.Fixed, Value: "x")] },
        ];
        var (treatment, problems) = TreatmentBuilder.Build(
            new CrossingDefinition("c", "copy", "a", "b", new TableRules([]), Treatment: steps),
            source,
            name => name,
            Numbers.Instance,
            new OneKey(),
            Texts.Instance
        );
        Assert.Empty(problems);
        Assert.Equal(["int8", "numeric", "text", "numeric"], treatment!.Tables[0].Schema.Columns.Select(column => column.Type));
        Assert.Empty(treatment.Tables[0].Schema.UniqueKeys);
        Assert.False(treatment.PassesAll);
        Assert.Equal("7|2.25|x|4.50", Treated.Shown(Treated.Loaded(treatment, Of(7L, 2.25, "hidden")).Single().Change.After));
        Assert.Empty(Treated.Loaded(treatment, Of(8L, 1.5, "low")));
        var changed = Treated.By(treatment, new RowChange(ChangeKind.Update, 0, Of(7L, 2.25, "a"), Of(7L, 3L, "b"))).Single().Change;
        Assert.Equal(("7|2.25|x|4.50", "7|3|x|6"), (Treated.Shown(changed.Before), Treated.Shown(changed.After)));
        Assert.Throws<EvaluationException>(() => Treated.Loaded(treatment, Of(9L, "dear", "c")));
    }

    [Theory]
    [InlineData("", false, "has no type")]
    [InlineData("TIMESTAMP", true, "in the key")]
    public void What_cannot_be_told_apart_there_is_refused_before(string type, bool isKey, string found)
    {
        var source = new TableSchema(
            new TableName("s", "t"),
            [new Column("id", "INTEGER", Nullable: false, KeyOrdinal: 1), new Column("c", type, KeyOrdinal: isKey ? 2 : 0)],
            [],
            []
        );
        IReadOnlyList<TreatmentProblem> Problems(params TreatmentStep[] steps) =>
            TreatmentBuilder
                .Build(
                    new CrossingDefinition("c", "copy", "a", "b", new TableRules([]), Treatment: steps),
                    source,
                    name => name,
                    Numbers.Instance,
                    new OneKey(),
                    Texts.Instance
                )
                .Problems;
        Assert.Contains(found, Assert.Single(Problems()).Found, StringComparison.Ordinal);
        if (!isKey)
        {
            Assert.Empty(Problems(new TreatmentStep("*", LeaveOut: ["c"])));
            Assert.Empty(Problems(new TreatmentStep("*") { Mask = [new MaskedColumn("c", MaskMethod.Null)] }));
        }
    }

    private static Row Written(Row row, ExpressionType type, bool fromText, bool intoText) =>
        Written(new ValueTranscriber("c", LogicalType.Of(new ColumnMeaning(type)), EncodingOf(fromText), EncodingOf(intoText)), row);

    private static IRowEncoding EncodingOf(bool ofTexts) => ofTexts ? TextEncoding.Instance : KindEncoding.Instance;

    private static Row Written(ValueTranscriber transcriber, Row row)
    {
        var writer = new RowWriter();
        writer.Begin(1);
        transcriber.Write(row, 0, writer);
        return writer.ToRow();
    }

    private static (ValueKind Kind, string Text) Shown(Row row) => (row.KindAt(0), row.TextAt(0));

    private static string Canonical(LogicalType type, Row row)
    {
        var into = new ArrayBufferWriter<byte>();
        new CanonicalForm([type]).Write(row, [0], into);
        return Convert.ToHexString(into.WrittenSpan);
    }

    private static Row OfBytes(byte[] bytes)
    {
        var writer = new RowWriter();
        writer.Begin(1);
        writer.Value(ValueKind.Bytes, bytes);
        return writer.ToRow();
    }

    private static Row Of(params object?[] values)
    {
        var writer = new RowWriter();
        writer.Begin(values.Length);
        foreach (var value in values)
        {
            switch (value)
            {
                case null:
                    writer.Null();
                    break;
                case long whole:
                    writer.Integer(whole);
                    break;
                case double number:
                    writer.Real(number);
                    break;
                default:
                    writer.Text(Convert.ToString(value, CultureInfo.InvariantCulture)!);
                    break;
            }
        }

        return writer.ToRow();
    }

    private static Row Of(object? value) => Of([value]);

    private sealed class OneKey : IMaskKeys
    {
        public byte[] Of(string name) => new byte[32];
    }

    /// <summary>An engine whose rows hold numbers as such.</summary>
    private sealed class Numbers : IEngineTypes
    {
        public static Numbers Instance { get; } = new();

        public IRowEncoding Encoding => KindEncoding.Instance;

        public int? LongestName => null;

        public string Spelled(string type) => type;

        public ColumnMeaning MeaningOf(Column column) =>
            new(
                column.Type switch
                {
                    "INTEGER" => ExpressionType.Integer,
                    "NUMERIC" => ExpressionType.Decimal,
                    "TIMESTAMP" => ExpressionType.Timestamp,
                    _ => ExpressionType.Text,
                }
            );

        public RepeatedValue? RepeatOf(Column column) => null;

        public string TypeFor(ExpressionType type) => type.Word();

        public LogicalType TypeOf(Column column) => column.Type.Length == 0 ? LogicalType.Any : LogicalType.Of(MeaningOf(column));

        public string Declare(LogicalType type) => TypeFor(ColumnMeaning.Of(type).Type);

        public TypeChange ChangeOf(string from, string to) => new(TypeOutcome.Keeps, "");
    }

    /// <summary>An engine whose rows hold texts.</summary>
    private sealed class Texts : IEngineTypes
    {
        public static Texts Instance { get; } = new();

        public IRowEncoding Encoding => TextEncoding.Instance;

        public int? LongestName => null;

        public string Spelled(string type) => type;

        public ColumnMeaning MeaningOf(Column column) => new(ExpressionType.Text);

        public RepeatedValue? RepeatOf(Column column) => null;

        public string TypeFor(ExpressionType type) =>
            type switch
            {
                ExpressionType.Integer => "int8",
                ExpressionType.Decimal => "numeric",
                _ => type.Word(),
            };

        public LogicalType TypeOf(Column column) => LogicalType.Of(MeaningOf(column));

        public string Declare(LogicalType type) => TypeFor(ColumnMeaning.Of(type).Type);

        public TypeChange ChangeOf(string from, string to) => new(TypeOutcome.Keeps, "");
    }
}
