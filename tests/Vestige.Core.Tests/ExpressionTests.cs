using CsCheck;
using Vestige.Core.Changes;
using Vestige.Core.Expressions;
using Xunit;

namespace Vestige.Core.Tests;

public class ExpressionTests
{
    private static readonly IReadOnlyList<ExpressionColumn> Columns =
    [
        new("id", "integer", new ColumnMeaning(ExpressionType.Integer)),
        new("name", "text", new ColumnMeaning(ExpressionType.Text)),
        new("price", "numeric", new ColumnMeaning(ExpressionType.Decimal)),
        new("due", "date", new ColumnMeaning(ExpressionType.Date)),
        new("open", "boolean", new ColumnMeaning(ExpressionType.Boolean)),
        new("place", "point", new ColumnMeaning(ExpressionType.Other)),
        new("code", "character(6)", new ColumnMeaning(ExpressionType.Text, Padded: true)),
        new("weight", "real", new ColumnMeaning(ExpressionType.Real, Single: true)),
    ];

    private static readonly string[] Words =
    [
        "id",
        "name",
        " AND ",
        " OR ",
        "(",
        ")",
        "NOT ",
        "= ",
        "'x'",
        "1",
        ",",
        "CASE ",
        "WHEN ",
        "THEN ",
        "END",
        "IN ",
        "||",
        "-",
        "IS NULL",
        "coalesce(",
    ];

    private static readonly Row Sample = TextRow.Of("7", "Ada Lind", "12.50", "2026-02-28", "t", "(1,2)", "ab    ", "1.1");

    /// <summary>ISO/IEC 9075-2, 6.39, tables for AND, OR, NOT and IS (truth values true, false, unknown).</summary>
    [Theory]
    [InlineData("TRUE", "TRUE", "TRUE", "TRUE")]
    [InlineData("TRUE", "FALSE", "FALSE", "TRUE")]
    [InlineData("TRUE", "NULL", "NULL", "TRUE")]
    [InlineData("FALSE", "TRUE", "FALSE", "TRUE")]
    [InlineData("FALSE", "FALSE", "FALSE", "FALSE")]
    [InlineData("FALSE", "NULL", "FALSE", "NULL")]
    [InlineData("NULL", "TRUE", "NULL", "TRUE")]
    [InlineData("NULL", "FALSE", "FALSE", "NULL")]
    [InlineData("NULL", "NULL", "NULL", "NULL")]
    public void And_and_or_follow_the_truth_tables(string left, string right, string and, string or)
    {
        Assert.Equal(Truth(and), Run($"{left} AND {right}"));
        Assert.Equal(Truth(or), Run($"{left} OR {right}"));
    }

    [Theory]
    [InlineData("NOT TRUE", false)]
    [InlineData("NOT FALSE", true)]
    [InlineData("NOT NULL", null)]
    [InlineData("TRUE IS TRUE", true)]
    [InlineData("FALSE IS TRUE", false)]
    [InlineData("NULL IS TRUE", false)]
    [InlineData("NULL IS NOT TRUE", true)]
    [InlineData("NULL IS FALSE", false)]
    [InlineData("NULL IS UNKNOWN", true)]
    [InlineData("TRUE IS UNKNOWN", false)]
    [InlineData("NULL = NULL", null)]
    [InlineData("NULL <> 1", null)]
    [InlineData("NULL IS NULL", true)]
    [InlineData("NULL IS DISTINCT FROM NULL", false)]
    [InlineData("1 IS DISTINCT FROM NULL", true)]
    [InlineData("1 IS NOT DISTINCT FROM 1", true)]
    [InlineData("1 IN (2, NULL)", null)]
    [InlineData("1 IN (1, NULL)", true)]
    [InlineData("1 NOT IN (2, NULL)", null)]
    [InlineData("1 NOT IN (2, 3)", true)]
    [InlineData("NULL BETWEEN 1 AND 2", null)]
    [InlineData("3 BETWEEN 4 AND NULL", false)]
    public void Null_means_what_it_means_in_sql(string expression, bool? expected) =>
        Assert.Equal(expected is { } truth ? Datum.Of(truth) : Datum.Null, Run(expression));

    [Theory]
    [InlineData("1 + 2 * 3", "7")]
    [InlineData("(1 + 2) * 3", "9")]
    [InlineData("7 / 2", "3")]
    [InlineData("-7 / 2", "-3")]
    [InlineData("-7 % 2", "-1")]
    [InlineData("1.10 + 2", "3.10")]
    [InlineData("0.1 * 0.1", "0.01")]
    [InlineData("1 / 3.0", "0.33333333333333333333")]
    [InlineData("price * 2", "25.00")]
    [InlineData("round(2.5, 0)", "3")]
    [InlineData("round(-2.55, 1)", "-2.6")]
    [InlineData("round(1234, -2)", "1200")]
    [InlineData("floor(-1.5)", "-2")]
    [InlineData("abs(-3)", "3")]
    [InlineData("name || ' #' || id", "Ada Lind #7")]
    [InlineData("upper(left(name, 3))", "ADA")]
    [InlineData("substring(name, 5, 2)", "Li")]
    [InlineData("right(name, 4)", "Lind")]
    [InlineData("length('größe😀')", "6")]
    [InlineData("replace(name, 'Lind', 'L.')", "Ada L.")]
    [InlineData("due + 1", "2026-03-01")]
    [InlineData("due - DATE '2026-01-01'", "58")]
    [InlineData("year(due) * 100 + month(due)", "202602")]
    [InlineData("CAST('12' AS integer) + 1", "13")]
    [InlineData("CAST(2.5 AS integer)", "3")]
    [InlineData("CASE WHEN id > 5 THEN 'many' WHEN id > 0 THEN 'few' END", "many")]
    [InlineData("CASE WHEN id > 50 THEN 'many' END", null)]
    [InlineData("coalesce(NULL, name, 'x')", "Ada Lind")]
    [InlineData("nullif(id, 7)", null)]
    [InlineData("greatest(1, NULL, 3)", "3")]
    [InlineData("least(2.5, 1)", "1")]
    [InlineData("utc(TIMESTAMPTZ '2026-01-01 01:00:00+02')", "2025-12-31 23:00:00")]
    [InlineData("code || '|'", "ab|")]
    [InlineData("CAST(place AS text)", "(1,2)")]
    [InlineData("9223372036854775807 - 1", "9223372036854775806")]
    public void Values_are_reckoned(string expression, string? expected)
    {
        var parsed = Expression.Parse(expression, Columns);
        Assert.Equal(expected, ValueText.Write(parsed.Type, parsed.Evaluate(Sample)));
    }

    [Theory]
    [InlineData("name LIKE 'A%d'", true)]
    [InlineData("name LIKE 'A_a%'", true)]
    [InlineData("name NOT LIKE 'B%'", true)]
    [InlineData("'50%' LIKE '50\\%'", true)]
    [InlineData("'50x' LIKE '50\\%'", false)]
    [InlineData("due < '2026-03-01'", true)]
    [InlineData("due = '2026-02-28'", true)]
    [InlineData("open", true)]
    [InlineData("NOT open OR id = 7", true)]
    [InlineData("code = 'ab'", true)]
    [InlineData("weight = 1.1", false)]
    [InlineData("'Z' < 'a'", true)]
    [InlineData("'\uFFFD' < '😀'", true)]
    [InlineData("1.0 = 1.00", true)]
    [InlineData("1 = 1.0", true)]
    [InlineData("DATE '2026-01-01' < TIMESTAMP '2026-01-01 00:00:01'", true)]
    [InlineData("due < DATE 'infinity'", true)]
    [InlineData("DATE '0044-03-15 BC' < DATE '0001-01-01'", true)]
    public void Conditions_hold(string expression, bool expected) =>
        Assert.Equal(expected, Expression.ParseCondition(expression, Columns).IsTrue(Sample));

    [Theory]
    [InlineData("id +", 4, "ends where")]
    [InlineData("idd = 1", 0, "no column idd")]
    [InlineData("ID = 1", 0, "There is \"id\"")]
    [InlineData("name = 1", 0, "text and integer")]
    [InlineData("id = 'x'", 5, "'x' is not integer")]
    [InlineData("due = '2026-02-30'", 6, "not date")]
    [InlineData("name = 'x", 7, "closing quote")]
    [InlineData("id = 1 = 2", 7, "not chained")]
    [InlineData("size(id)", 0, "no function size")]
    [InlineData("left(name)", 0, "takes 2 arguments")]
    [InlineData("place = '(1,2)'", 8, "CAST")]
    [InlineData("id ? 1", 3, "no meaning")]
    [InlineData("(id = 1", 7, "')'")]
    [InlineData("id = 1 name", 7, "the end")]
    [InlineData("NOT id", 4, "needs boolean")]
    [InlineData("1.2.3", 0, "not a number")]
    [InlineData("CAST(id AS point)", 11, "CAST knows")]
    [InlineData("", 0, "nothing")]
    public void What_cannot_be_understood_is_told_at_its_place(string expression, int place, string message)
    {
        var exception = Assert.Throws<ExpressionException>(() => Expression.Parse(expression, Columns));
        Assert.Equal(place, exception.Place);
        Assert.Contains(message, exception.Message, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("1 / 0")]
    [InlineData("1.0 / 0")]
    [InlineData("id / (id - 7)")]
    [InlineData("9223372036854775807 + id")]
    [InlineData("CAST(name AS integer)")]
    public void What_has_no_value_is_an_error_that_shows_none(string expression)
    {
        var exception = Assert.Throws<EvaluationException>(() => Expression.Parse(expression, Columns).Evaluate(Sample));
        Assert.DoesNotContain("Ada", exception.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void The_left_side_decides_before_the_right_is_reckoned() => Assert.Equal(Datum.Of(true), Run("id = 7 OR 1 / 0 = 1"));

    [Theory]
    [InlineData('(')]
    [InlineData('-')]
    public void Deep_nesting_is_refused_before_the_stack_is_full(char with) =>
        Assert.Contains(
            "nested deeper",
            Assert.Throws<ExpressionException>(() => Expression.Parse(new string(with, 5000) + "1", Columns)).Message,
            StringComparison.Ordinal
        );

    [Fact]
    public void A_long_chain_is_no_nesting()
    {
        var chain = string.Join(" OR ", Enumerable.Range(0, 600).Select(i => $"id = {i}"));
        Assert.True(Expression.ParseCondition(chain, Columns).IsTrue(Sample));
    }

    [Fact]
    public void A_value_that_the_log_left_out_is_no_null()
    {
        var writer = new RowWriter();
        writer.Begin(1);
        writer.Absent();
        Assert.Throws<EvaluationException>(() => Expression.Parse("id", Columns).Evaluate(writer.ToRow()));
    }

    /// <summary>Any text is either understood or refused with a place within it; nothing else is thrown.</summary>
    [Fact]
    public void Any_text_is_understood_or_refused() =>
        Gen.Select(Gen.Int[0, Words.Length], Gen.String, (word, text) => word < Words.Length ? Words[word] : text)
            .Array[0, 12]
            .Select(string.Concat)
            .Sample(text =>
            {
                try
                {
                    Expression.Parse(text, Columns);
                }
                catch (ExpressionException exception)
                {
                    Assert.InRange(exception.Place, 0, text.Length);
                    Assert.InRange(exception.Place + exception.Length, 0, text.Length);
                }
            });

    /// <summary>Held against the base library's calendar where that reaches.</summary>
    [Fact]
    public void Days_are_counted_as_the_calendar_does() =>
        Gen.Int[0, DateOnly.MaxValue.DayNumber]
            .Sample(number =>
            {
                var day = DateOnly.FromDayNumber(number);
                var days = CivilTime.DaysOf(day.Year, day.Month, day.Day);
                Assert.Equal(number - new DateOnly(1970, 1, 1).DayNumber, days);
                Assert.Equal((day.Year, day.Month, day.Day), CivilTime.DateOf(days));
                Assert.Equal(days, CivilTime.ParseDate(CivilTime.FormatDate(days)));
            });

    [Fact]
    public void Times_survive_their_text() =>
        Gen.Long[-200_000_000_000_000_000, 250_000_000_000_000_000]
            .Sample(microseconds =>
            {
                Assert.Equal(microseconds, CivilTime.ParseTimestamp(CivilTime.FormatTimestamp(microseconds)));
                Assert.Equal(microseconds, CivilTime.ParseInstant(CivilTime.FormatInstant(microseconds)));
            });

    [Fact]
    public void Decimals_agree_with_the_base_library() =>
        Gen.Select(Gen.Decimal[-1_000_000m, 1_000_000m], Gen.Decimal[-1_000_000m, 1_000_000m])
            .Sample(
                (left, right) =>
                {
                    var (one, other) = (Parse(left), Parse(right));
                    Assert.Equal(left.CompareTo(right), one.CompareTo(other));
                    Assert.Equal(Math.Floor(left).ToString(), one.Floor().ToString());
                    Assert.Equal(0, (one + other - other).CompareTo(one));
                    Assert.Equal(one.ToString(), ExactDecimal.Parse(one.ToString())!.ToString());
                }
            );

    private static ExactDecimal Parse(decimal value) => ExactDecimal.Parse(value.ToString())!;

    private static Datum Run(string expression) => Expression.Parse(expression, Columns).Evaluate(Sample);

    private static Datum Truth(string word) => word == "NULL" ? Datum.Null : Datum.Of(word == "TRUE");
}
