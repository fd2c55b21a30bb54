using System.Buffers;
using CsCheck;
using Vestige.Core.Changes;
using Xunit;

namespace Vestige.Core.Tests;

public class RowTests
{
    private static readonly Gen<object?> Value = Gen.OneOf(
        Gen.Const((object?)null),
        Gen.Long.Select(value => (object?)value),
        Gen.Double.Select(value => (object?)value),
        Gen.String[0, 40].Where(text => !text.Any(char.IsSurrogate)).Select(text => (object?)text),
        Gen.Byte.Array[0, 40].Select(bytes => (object?)bytes)
    );

    [Fact]
    public void What_is_written_is_read_back() =>
        Value
            .Array[0, 20]
            .Sample(values =>
            {
                var row = Write(values);
                Assert.Equal(values.Length, row.Count);
                for (var i = 0; i < values.Length; i++)
                {
                    Assert.Equal(values[i], Read(row, i));
                }
            });

    [Fact]
    public void Changes_pass_through_their_record_unchanged() =>
        Gen.Select(Value.Array[1, 6], Value.Array[1, 6])
            .Array[0, 20]
            .Sample(pairs =>
            {
                var output = new ArrayBufferWriter<byte>();
                foreach (var (before, after) in pairs)
                {
                    ChangeWriter.Write(output, new RowChange(ChangeKind.Update, 7, Write(before), Write(after)));
                }

                var reader = new ChangeReader(output.WrittenMemory);
                foreach (var (before, after) in pairs)
                {
                    Assert.True(reader.TryRead(out var change));
                    Assert.Equal((ChangeKind.Update, 7), (change.Kind, change.Relation));
                    Assert.True(change.Before == Write(before) && change.After == Write(after));
                }

                Assert.False(reader.TryRead(out _));
            });

    [Fact]
    public void A_torn_record_is_refused()
    {
        var output = new ArrayBufferWriter<byte>();
        ChangeWriter.Write(output, new RowChange(ChangeKind.Insert, 1, default, Write([1L, "abc"])));
        for (var length = 1; length < output.WrittenCount; length++)
        {
            Assert.ThrowsAny<Exception>(() => new ChangeReader(output.WrittenMemory[..length]).TryRead(out _));
        }
    }

    [Fact]
    public void Keys_are_one_only_when_kind_and_bytes_are()
    {
        var keys = new[]
        {
            Write([1L]),
            Write([1.0]),
            Write(["1"]),
            Write([null]),
            Write([""]),
            Write([Array.Empty<byte>()]),
            Write(["a"]),
            Write(["A"]),
        }
            .Select(row => RowKey.Of(row, [0]))
            .ToList();
        Assert.Equal(keys.Count, keys.Distinct().Count());
        Assert.NotEqual(RowKey.Of(Write(["a", "bc"]), [0, 1]), RowKey.Of(Write(["ab", "c"]), [0, 1]));
    }

    private static Row Write(object?[] values)
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
                case long number:
                    writer.Integer(number);
                    break;
                case double real:
                    writer.Real(real);
                    break;
                case string text:
                    writer.Text(text);
                    break;
                default:
                    writer.Value(ValueKind.Bytes, (byte[])value);
                    break;
            }
        }

        return writer.ToRow();
    }

    private static object? Read(Row row, int column) =>
        row.KindAt(column) switch
        {
            ValueKind.Null => null,
            ValueKind.Integer => row.IntegerAt(column),
            ValueKind.Real => row.RealAt(column),
            ValueKind.Text => row.TextAt(column),
            _ => row.ValueAt(column).ToArray(),
        };
}
