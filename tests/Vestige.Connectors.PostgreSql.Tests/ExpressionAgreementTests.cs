using System.Globalization;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Changes;
using Vestige.Core.Expressions;
using Vestige.Core.Schemas;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// Random expressions over random rows mean to Vestige what they mean to the server itself. Texts are in the "C" collation,
/// whose order is that of code points. LIKE on padded text is left apart: to the server the blanks count there.
/// </summary>
public sealed class ExpressionAgreementTests(TwoServers servers)
{
    private const int Rows = 40;
    private const int Expressions = 500;

    private static readonly (string Name, string Type, string[] Values)[] Columns =
    [
        ("i", "bigint", ["0", "1", "-1", "7", "42", "-100", "9223372036854775807", "-9223372036854775808", "3"]),
        ("j", "bigint", ["0", "2", "-3", "10", "1000000007"]),
        ("n", "numeric", ["0", "1.50", "-0.001", "123456789012345678901.5", "99999", "0.3333", "NaN", "10000", "-12.5"]),
        ("m", "numeric(10,2)", ["0.00", "1.10", "-99.99", "12345678.90", "0.01"]),
        (
            "r",
            "double precision",
            ["0", "-0", "1.5", "1e300", "0.1", "NaN", "Infinity", "-2.5e-7", "123456789012345680", "1e15", "0.0001", "0.00001"]
        ),
        ("s", "real", ["0", "1.1", "-3.25", "16777216"]),
        ("t", "text COLLATE \"C\"", ["", "a", "Abc", "abc def", "50%", "a_b", "zz", "Zebra", "1"]),
        ("u", "text COLLATE \"C\"", ["", "größe", "😀x", "\uFFFD", "漢字", "a"]),
        ("c", "character(5) COLLATE \"C\"", ["a", "Abc", "", "zz"]),
        ("d", "date", ["2026-02-28", "1970-01-01", "0044-03-15 BC", "infinity", "9999-12-31"]),
        ("e", "date", ["2024-02-29", "2000-01-01", "1969-12-31"]),
        ("p", "timestamp", ["2026-02-28 12:34:56.789", "1969-12-31 23:59:59.999999", "-infinity", "0001-01-01 00:00:00 BC"]),
        ("b", "boolean", ["true", "false"]),
    ];

    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task Expressions_mean_what_they_mean_to_the_server()
    {
        var seed = int.TryParse(Environment.GetEnvironmentVariable("VESTIGE_SEED"), out var given) ? given : Random.Shared.Next();
        var random = new Random(seed);
        var database = await servers.A.MakeDatabaseAsync();
        var values = await FillAsync(database, random);
        var known = Columns.Select(column => new ExpressionColumn(column.Name, column.Type, MeaningOf(column.Type))).ToList();
        var (compared, refused, stricter) = (0, 0, 0);
        for (var i = 0; i < Expressions; i++)
        {
            var text = new Maker(random).Make((Kind)random.Next(6), 3);
            var expression = Expression.Parse(text, known);
            string theirs;
            try
            {
                theirs = await database.AskAsync($"SELECT string_agg(coalesce(CAST(({text}) AS text), 'NULL'), E'\\n' ORDER BY k) FROM x");
            }
            catch (Npgsql.PostgresException)
            {
                refused++;
                continue;
            }

            var answers = theirs.Split('\n');
            for (var row = 0; row < Rows; row++)
            {
                var ours = Ours(expression, values[row]);
                if (ours.StartsWith("error", StringComparison.Ordinal))
                {
                    stricter++;
                    continue;
                }

                Assert.True(
                    Agree(expression.Type, answers[row], ours),
                    $"seed {seed}: {text}, row {row}: the server says {answers[row]}, Vestige {ours}"
                );
                compared++;
            }
        }

        // Where constants decide beforehand, the server does not reckon the rest, which may have no value; Vestige refuses the row.
        Assert.True(stricter < compared / 50, $"seed {seed}: {stricter} rows had no value here and one at the server");
        Assert.True(refused < Expressions / 2, $"seed {seed}: the server refused {refused} of {Expressions}");
        TestContext.Current.SendDiagnosticMessage($"seed {seed}: {compared} values compared, {refused} expressions refused by the server");
    }

    /// <summary>In text form; numbers of binary64 as such, since of two shortest forms either may be written.</summary>
    private static bool Agree(ExpressionType type, string theirs, string ours) =>
        theirs == ours
        || (
            type == ExpressionType.Real
            && double.TryParse(theirs, CultureInfo.InvariantCulture, out var one)
            && double.TryParse(ours, CultureInfo.InvariantCulture, out var other)
            && one.Equals(other)
        );

    private static string Ours(Expression expression, Row row)
    {
        try
        {
            return ValueText.Write(expression.Type, expression.Evaluate(row)) ?? "NULL";
        }
        catch (EvaluationException exception)
        {
            return $"error: {exception.Message}";
        }
    }

    private async Task<List<Row>> FillAsync(Database database, Random random)
    {
        await database.RunAsync($"CREATE TABLE x (k int, {string.Join(", ", Columns.Select(column => $"{column.Name} {column.Type}"))})");
        for (var k = 0; k < Rows; k++)
        {
            var values = Columns.Select(column => random.Next(6) == 0 ? "NULL" : $"'{column.Values[random.Next(column.Values.Length)]}'");
            await database.RunAsync($"INSERT INTO x VALUES ({k}, {string.Join(", ", values)})");
        }

        await using var connector = new PostgreSqlConnector(database.Settings(), database.Names, TimeProvider.System);
        var form = (await connector.Source.Catalogue.ReadTablesAsync(cancellation)).Single(table => table.Schema.Name.Name == "x").Schema;
        var rows = await connector.Source.Lookup.SampleRowsAsync(form, Rows, cancellation);
        return [.. rows.OrderBy(row => int.Parse(row.TextAt(0), CultureInfo.InvariantCulture)).Select(Shifted)];
    }

    /// <summary>The row without its first column.</summary>
    private static Row Shifted(Row row)
    {
        var writer = new RowWriter();
        writer.Begin(row.Count - 1);
        for (var i = 1; i < row.Count; i++)
        {
            writer.Value(row.KindAt(i), row.ValueAt(i));
        }

        return writer.ToRow();
    }

    private static ColumnMeaning MeaningOf(string type) =>
        new PostgreSqlMeanings().Of(
            type.Replace(" COLLATE \"C\"", "", StringComparison.Ordinal) switch
            {
                "timestamp" => "timestamp without time zone",
                var other => other,
            }
        );

    /// <summary>The connector's own meanings, as its catalogue would spell the types.</summary>
    private sealed class PostgreSqlMeanings
    {
        private readonly PostgreSqlSource source = new(
            new PostgreSqlSettings("localhost", 1, "x", "x", TlsMode.Off, null, null),
            Log.LogNames.Of("x", "x"),
            TimeProvider.System
        );

        public ColumnMeaning Of(string type) => source.Types.MeaningOf(new Column("x", type));
    }

    private enum Kind
    {
        Boolean,
        Integer,
        Decimal,
        Real,
        Text,
        Date,
    }

    /// <summary>Makes expressions that both sides understand, by type.</summary>
    private sealed class Maker(Random random)
    {
        public string Make(Kind kind, int depth) =>
            kind switch
            {
                Kind.Boolean => Boolean(depth),
                Kind.Integer => Integer(depth),
                Kind.Decimal => Decimal(depth),
                Kind.Real => Real(depth),
                Kind.Text => Text(depth),
                _ => Date(depth),
            };

        private string One(params string[] choices) => choices[random.Next(choices.Length)];

        private string Boolean(int depth)
        {
            if (depth == 0)
            {
                return One("b", "TRUE", "FALSE", "(i = 1)", "(t = 'a')", "(c = 'a')", "(c < t)");
            }

            var kind = (Kind)(1 + random.Next(5));
            string Side() => Make(kind, depth - 1);
            return random.Next(13) switch
            {
                0 => $"({Boolean(depth - 1)} AND {Boolean(depth - 1)})",
                1 => $"({Boolean(depth - 1)} OR {Boolean(depth - 1)})",
                2 => $"(NOT {Boolean(depth - 1)})",
                3 => $"({Side()} {One("=", "<>", "<", "<=", ">", ">=")} {Side()})",
                4 => $"({Side()} IS {One("", "NOT ")}NULL)",
                5 => $"({Boolean(depth - 1)} IS {One("", "NOT ")}{One("TRUE", "FALSE", "UNKNOWN")})",
                6 => $"({Side()} IS {One("", "NOT ")}DISTINCT FROM {Side()})",
                7 => $"({Side()} {One("", "NOT ")}IN ({Side()}, {Side()}, NULL))",
                8 => $"({Side()} {One("", "NOT ")}BETWEEN {Side()} AND {Side()})",
                9 => $"({Text(depth - 1)} {One("", "NOT ")}LIKE {One("'a%'", "'%b_'", "'50\\%'", "'%'", "''", "'_'", "t")})",
                10 => $"({Integer(depth - 1)} {One("=", "<", ">=")} {Decimal(depth - 1)})",
                11 => $"({Decimal(depth - 1)} {One("=", "<", ">")} {Real(depth - 1)})",
                _ => $"(d {One("<", "=", ">")} p)",
            };
        }

        private string Integer(int depth) =>
            depth == 0
                ? One("i", "j", "CAST(3 AS bigint)", "CAST(-12 AS bigint)")
                : random.Next(8) switch
                {
                    0 => $"({Integer(depth - 1)} {One("+", "-", "*", "/", "%")} {Integer(depth - 1)})",
                    1 => $"(- {Integer(depth - 1)})",
                    2 => $"abs({Integer(depth - 1)})",
                    3 => $"coalesce({Integer(depth - 1)}, {Integer(depth - 1)})",
                    4 => $"CASE WHEN {Boolean(depth - 1)} THEN {Integer(depth - 1)} WHEN {Boolean(depth - 1)} THEN "
                        + $"{Integer(depth - 1)} ELSE {Integer(depth - 1)} END",
                    5 => $"nullif({Integer(depth - 1)}, {Integer(depth - 1)})",
                    6 => $"{One("greatest", "least")}({Integer(depth - 1)}, {Integer(depth - 1)})",
                    _ => $"CAST(length({Text(depth - 1)}) AS bigint)",
                };

        private string Decimal(int depth) =>
            depth == 0
                ? One("n", "m", "1.50", "0.007", "100000.0")
                : random.Next(7) switch
                {
                    0 => $"({Decimal(depth - 1)} {One("+", "-", "*", "/", "%")} {Decimal(depth - 1)})",
                    1 => $"({Decimal(depth - 1)} {One("+", "*", "/")} {Integer(depth - 1)})",
                    2 => $"round({Decimal(depth - 1)}, {One("0", "1", "3", "-1")})",
                    3 => $"floor({Decimal(depth - 1)})",
                    4 => $"CAST({Integer(depth - 1)} AS numeric)",
                    5 => $"CASE WHEN {Boolean(depth - 1)} THEN {Decimal(depth - 1)} END",
                    _ => $"greatest({Decimal(depth - 1)}, {Decimal(depth - 1)})",
                };

        private string Real(int depth) =>
            depth == 0
                ? One("r", "(s + r)", "(r * 2)")
                : random.Next(4) switch
                {
                    0 => $"({Real(depth - 1)} {One("+", "-", "*", "/")} {Real(depth - 1)})",
                    1 => $"(- {Real(depth - 1)})",
                    2 => $"({Real(depth - 1)} + {Integer(depth - 1)})",
                    _ => $"coalesce({Real(depth - 1)}, r)",
                };

        private string Text(int depth) =>
            depth == 0
                ? One("t", "u", "(c || '')", "'abc'", "'a_c'", "''")
                : random.Next(9) switch
                {
                    0 => $"({Text(depth - 1)} || {Text(depth - 1)})",
                    1 => $"({Text(depth - 1)} || {One("i", "n", "b", "d")})",
                    2 => $"{One("lower", "upper")}(t)",
                    3 => $"{One("left", "right")}({Text(depth - 1)}, {One("2", "-1", "0", "10")})",
                    4 => $"substring({Text(depth - 1)}, {One("1", "2", "-1", "0")}, {One("0", "2", "5")})",
                    5 => $"trim({Text(depth - 1)})",
                    6 => $"replace({Text(depth - 1)}, {One("'a'", "''", "'b'")}, 'xy')",
                    7 => $"CAST({Make((Kind)random.Next(3), depth - 1)} AS text)",
                    _ => $"CASE WHEN {Boolean(depth - 1)} THEN {Text(depth - 1)} ELSE {Text(depth - 1)} END",
                };

        private string Date(int depth) =>
            depth == 0
                ? One("d", "e", "DATE '2026-03-01'")
                : random.Next(3) switch
                {
                    0 => $"({Date(depth - 1)} {One("+", "-")} CAST({One("1", "30", "-365")} AS int))",
                    1 => $"coalesce({Date(depth - 1)}, e)",
                    _ => $"{One("greatest", "least")}({Date(depth - 1)}, {Date(depth - 1)})",
                };
    }
}
