using System.Buffers;
using System.Text;
using CsCheck;
using Vestige.Core.Changes;
using Vestige.Core.Expressions;
using Vestige.Core.Reconciling;
using Vestige.Core.Types;
using Xunit;

namespace Vestige.Core.Tests;

/// <summary>Values of two engines in one form: what is equal by definition is the same, and nothing else is.</summary>
public class CanonicalFormTests
{
    /// <summary>
    /// RFC 8785, 3.2.2: its own example; the first number keeps its digits here, where the scheme gives 333333333.3333333.
    /// </summary>
    [Fact]
    public void The_example_of_the_scheme_comes_out_as_it_says_but_for_digits_that_it_rounds()
    {
        const string input =
            """{"numbers": [333333333.33333329, 1E30, 4.50, 2e-3, 0.000000000000000000000000001],"""
            + """ "string": "\u20ac$\u000F\u000aA'\u0042\u0022\u005c\\\"\/", "literals": [null, true, false]}""";
        const string scheme =
            """{"literals":[null,true,false],"numbers":[333333333.3333333,1e+30,4.5,0.002,1e-27],"string":"€$\u000f\nA'B\"\\\\\"/"}""";
        Assert.Equal(scheme.Replace("333333333.3333333,", "333333333.33333329,", StringComparison.Ordinal), Json(input));
        Assert.Equal(scheme, Json(scheme));
    }

    /// <summary>RFC 8785, 3.2.3: keys by UTF-16 code units.</summary>
    [Fact]
    public void Keys_are_sorted_as_the_scheme_says()
    {
        const string input =
            """{"\u20ac": "Euro Sign", "\r": "Carriage Return", "\ufb33": "Hebrew Letter Dalet With Dagesh","""
            + """ "1": "One", "\ud83d\ude00": "Emoji: Grinning Face","""
            + """ "\u0080": "Control", "\u00f6": "Latin Small Letter O With Diaeresis"}""";
        string[] order =
        [
            "Carriage Return",
            "One",
            "Control",
            "Latin Small Letter O With Diaeresis",
            "Euro Sign",
            "Emoji: Grinning Face",
            "Hebrew Letter Dalet With Dagesh",
        ];
        var written = Json(input)!;
        var places = order.Select(name => written.IndexOf(name, StringComparison.Ordinal)).ToList();
        Assert.Equal(places.Order(), places);
        Assert.DoesNotContain(-1, places);
    }

    /// <summary>RFC 8785, Appendix B: numbers that binary64 holds, as ECMAScript writes them (from memory of the table).</summary>
    [Theory]
    [InlineData("0", "0")]
    [InlineData("-0", "0")]
    [InlineData("5e-324", "5e-324")]
    [InlineData("-5E-324", "-5e-324")]
    [InlineData("9007199254740992", "9007199254740992")]
    [InlineData("295147905179352830000", "295147905179352830000")]
    [InlineData("9.999999999999997e22", "9.999999999999997e+22")]
    [InlineData("100000000000000000000000", "1e+23")]
    [InlineData("1e21", "1e+21")]
    [InlineData("999999999999999900000", "999999999999999900000")]
    [InlineData("0.0000010", "0.000001")]
    [InlineData("9.999999999999997e-7", "9.999999999999997e-7")]
    [InlineData("-0.0000033333333333333333", "-0.0000033333333333333333")]
    [InlineData("1424953923781206.2", "1424953923781206.2")]
    [InlineData("0.10", "0.1")]
    [InlineData("12e2", "1200")]
    public void Numbers_are_laid_out_as_the_scheme_says_and_keep_their_digits(string number, string expected) =>
        Assert.Equal(expected, Json(number));

    [Fact]
    public void What_is_no_JSON_is_told() => Assert.All(new[] { "{", "{} {}", "nul", "'a'", "" }, text => Assert.Null(Json(text)));

    [Fact]
    public void A_number_beyond_double_precision_is_another() =>
        Assert.NotEqual(Json("[0.1000000000000000055511151231257827]"), Json("[0.1]"));

    [Theory]
    [InlineData("numeric(12,2)", "1.50", "1.5", true)]
    [InlineData("numeric(12,2)", "100.00", 100L, true)]
    [InlineData("numeric", "0.10", 0.1, true)]
    [InlineData("numeric", "0.1000000000000000055511151231257827", 0.1, false)]
    [InlineData("bigint", "-0", 0L, true)]
    [InlineData("numeric", "-0.00", 0L, true)]
    [InlineData("numeric", "007.50", "7.5", true)]
    [InlineData("numeric", "1e3", 1000L, true)]
    [InlineData("numeric", "1e-7", 1e-7, true)]
    [InlineData("numeric", "NaN", "NaN", true)]
    [InlineData("numeric", "-10", -10.0, true)]
    [InlineData("numeric", "100", 1.0, false)]
    [InlineData("double precision", "-0", 0.0, true)]
    [InlineData("double precision", "NaN", double.NaN, true)]
    [InlineData("double precision", "0.1", 0.1, true)]
    [InlineData("double precision", "0.1", 0.10000000000000002, false)]
    [InlineData("text", "e\u0301", "\u00e9", false)]
    [InlineData("text", "blank ", "blank", false)]
    [InlineData("character(8)", "blank   ", "blank", true)]
    [InlineData("timestamp with time zone", "2026-03-01 09:00:00+01", "2026-03-01 08:00:00+00", true)]
    [InlineData("timestamp without time zone", "2026-03-01 08:00:00", "2026-03-01T08:00:00.000000Z", true)]
    [InlineData("timestamp without time zone", "2026-03-01 08:00:00.000001", "2026-03-01 08:00:00", false)]
    [InlineData("jsonb", "{\"b\": 1.0, \"a\": null}", "{\"a\":null,\"b\":1}", true)]
    [InlineData("jsonb", "{\"a\": 1}", "{\"a\":\"1\"}", false)]
    [InlineData("boolean", "t", 1L, true)]
    [InlineData("text", "", null, false)]
    [InlineData("integer", "1", "one", false)]
    public void Values_of_two_engines_are_equal_or_not(string type, string text, object? there, bool equal)
    {
        var meant = TypeOf(type);
        Assert.Equal(equal, Written(meant, Row(text)) == Written(meant, Row(there)));
    }

    /// <summary>A decimal is the same whichever way its zeros are written, and no other.</summary>
    [Fact]
    public void Decimals_are_the_same_exactly_when_they_are_equal() =>
        Gen.Select(Gen.Int[-2000, 2000], Gen.Int[0, 3], Gen.Int[-2000, 2000], Gen.Int[0, 3])
            .Sample(
                (one, scale, other, scaleThere) =>
                {
                    var (left, right) = (new ExactDecimal(one, scale), new ExactDecimal(other, scaleThere));
                    Assert.Equal(
                        left == right,
                        Written(LogicalType.Decimal, Row(left.ToString())) == Written(LogicalType.Decimal, Row(right.ToString()))
                    );
                }
            );

    private static LogicalType TypeOf(string type) =>
        type switch
        {
            "bigint" or "integer" => LogicalType.Integer,
            "double precision" => LogicalType.Real,
            "boolean" => LogicalType.Boolean,
            "jsonb" => LogicalType.Json,
            "text" => LogicalType.Text,
            _ when type.StartsWith("character", StringComparison.Ordinal) => LogicalType.Text with { Padded = true },
            _ when type.StartsWith("numeric", StringComparison.Ordinal) => LogicalType.Decimal,
            "timestamp with time zone" => LogicalType.Instant,
            _ => LogicalType.Timestamp,
        };

    private static string? Json(string text)
    {
        var into = new ArrayBufferWriter<byte>();
        return CanonicalJson.TryWrite(Encoding.UTF8.GetBytes(text), into) ? Encoding.UTF8.GetString(into.WrittenSpan) : null;
    }

    private static string Written(LogicalType type, Row row)
    {
        var into = new ArrayBufferWriter<byte>();
        new CanonicalForm([type]).Write(row, [0], into);
        return Convert.ToHexString(into.WrittenSpan);
    }

    private static Row Row(object? value)
    {
        var writer = new RowWriter();
        writer.Begin(1);
        switch (value)
        {
            case null:
                writer.Null();
                break;
            case long whole:
                writer.Integer(whole);
                break;
            case double real:
                writer.Real(real);
                break;
            default:
                writer.Text((string)value);
                break;
        }

        return writer.ToRow();
    }
}
