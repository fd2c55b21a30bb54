using System.Text;
using Vestige.Connectors.PostgreSql.Catalogue;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Treatments;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// What is said of converting a type into another, held against what the server does to boundary values of every type in a column
/// of every other: nothing that is said to be kept changes or is refused, and nothing is changed where only refusals were said.
/// </summary>
public sealed class TypeChangeTests(TwoServers servers)
{
    /// <summary>Takes a value's text form as a load writes it, reads back what became of it, and says how it fared.</summary>
    private const string Fare = """
        CREATE FUNCTION fare(source text, target text, into_table text, written text) RETURNS text LANGUAGE plpgsql AS $$
        DECLARE got text; back text;
        BEGIN
          BEGIN
            EXECUTE format('INSERT INTO %s VALUES (%L) RETURNING format(''%%s'', v)', into_table, written) INTO got;
          EXCEPTION WHEN OTHERS THEN RETURN 'refused';
          END;
          BEGIN
            EXECUTE format('SELECT format(''%%s'', %L::%s::%s)', got, target, source) INTO back;
          EXCEPTION WHEN OTHERS THEN back := NULL;
          END;
          IF back IS NOT DISTINCT FROM written THEN RETURN 'kept'; END IF;
          BEGIN
            EXECUTE format('SELECT format(''%%s'', %L::%s)', got, source) INTO back;
          EXCEPTION WHEN OTHERS THEN back := NULL;
          END;
          RETURN CASE WHEN back IS NOT DISTINCT FROM written THEN 'kept' ELSE 'changed to ' || left(got, 60) END;
        END $$
        """;

    /// <summary>Texts that other types read, and do not give back as they were.</summary>
    private static readonly string[] Texts =
    [
        "'01234'",
        "' 12 '",
        "'+7'",
        "'1e2'",
        "'1.50'",
        "'-0'",
        "'yes'",
        "'TRUE'",
        "'A0EEBC99-9C0B-4EF8-BB6D-6BB9BD380A11'",
        "'10.0.0.1/32'",
        "'2026-2-3'",
        "'2026-02-03 04:05:06.7654321+02'",
        "'4:5'",
        "'{ 1 , 2 }'",
        "'[1,4]'",
        "'{\"b\":1, \"a\":2}'",
        "'(1, 2)'",
        "'abc'",
        "'08002b010203'",
        "'1/0A'",
        "'$12.345'",
        "'<a/>'",
        "'fat  &  rat'",
        "'zz a'",
        "'101'",
        "'a=>1,b=>2'",
        "'pg_catalog.pg_class'",
        "'int4'",
        "'1 day 25:00'",
        "'09:00 PM'",
    ];

    [Fact]
    public async Task What_is_said_of_a_change_of_type_is_what_the_server_does()
    {
        var database = await servers.A.MakeDatabaseAsync();
        await database.RunAsync(TypeTests.Setup + Fare);
        string[] more =
        [
            "text COLLATE \"C\"",
            "varchar(6)",
            "varchar",
            "char(3)",
            "numeric(20,0)",
            "numeric(4,1)",
            "numeric(22,4)",
            "timestamp(3)",
            "timestamptz(0)",
            "time(0)",
            "bit(8)",
            "bigint[]",
        ];
        var types = TypeTests
            .Values.Keys.Concat(more.Select(type => type.Replace(" COLLATE \"C\"", "", StringComparison.Ordinal)))
            .Distinct()
            .ToList();
        await database.RunAsync(string.Join("; ", types.Select((type, i) => $"CREATE TABLE into_{i} (v {type})")));
        var spelled = (
            await database.AskAsync(
                "SELECT string_agg(format_type(atttypid, atttypmod), E'\\n' ORDER BY substr(relname, 6)::int) FROM pg_attribute a "
                    + "JOIN pg_class c ON c.oid = attrelid WHERE relname LIKE 'into\\_%' AND attnum = 1"
            )
        ).Split('\n');
        var wrong = new List<string>();
        var counts = new Dictionary<TypeOutcome, int>();
        for (var from = 0; from < types.Count; from++)
        {
            var told = types.Select((_, to) => PostgreSqlTypes.Instance.ChangeOf(spelled[from], spelled[to]).Outcome).ToList();
            var fared = await FaredAsync(database, types, spelled, from);
            foreach (var (to, value, how) in fared)
            {
                counts[told[to]] = counts.GetValueOrDefault(told[to]) + 1;
                if (!Agrees(told[to], how))
                {
                    wrong.Add($"{spelled[from]} {value} as {spelled[to]}: {how}, said {told[to]}");
                }
            }
        }

        Assert.True(wrong.Count == 0, $"{wrong.Count} wrong:\n{string.Join('\n', wrong.Take(60))}");
        Assert.All(Enum.GetValues<TypeOutcome>(), outcome =>
            Assert.True(counts.GetValueOrDefault(outcome) > 60, $"{outcome}: {counts.GetValueOrDefault(outcome)}")
        );
    }

    private static bool Agrees(TypeOutcome told, string how) =>
        told switch
        {
            TypeOutcome.Keeps => how == "kept",
            TypeOutcome.MayRefuse => how is "kept" or "refused",
            TypeOutcome.Impossible => how == "refused",
            _ => true,
        };

    private static async Task<List<(int To, string Value, string How)>> FaredAsync(
        Database database,
        List<string> types,
        string[] spelled,
        int from
    )
    {
        var type = types[from];
        var values = TypeTests.Values.GetValueOrDefault(type, []).ToList();
        if (spelled[from] is "integer" or "bigint" or "numeric")
        {
            values.Add("20260203");
        }
        else if (spelled[from] is "text" or "character varying")
        {
            values.AddRange(Texts);
        }
        else if (values.Count == 0)
        {
            values.AddRange(
                type.StartsWith("time", StringComparison.Ordinal) ? ["'2026-02-03 23:59:59.5'"]
                : type.StartsWith("bit", StringComparison.Ordinal) ? ["B'10101010'"]
                : type.EndsWith("[]", StringComparison.Ordinal) ? ["'{9223372036854775807}'"]
                : ["'12'", "'7'"]
            );
        }

        var asked = new StringBuilder();
        foreach (var value in values)
        {
            for (var to = 0; to < types.Count; to++)
            {
                asked
                    .Append(asked.Length == 0 ? "" : " UNION ALL ")
                    .Append(
                        $"SELECT {to} AS t, $v${value}$v$ AS value, "
                            + $"fare('{spelled[from].Replace("'", "''", StringComparison.Ordinal)}', "
                            + $"'{spelled[to].Replace("'", "''", StringComparison.Ordinal)}', 'into_{to}', format('%s', "
                            + $"({value})::{type})) AS how"
                    );
            }
        }

        var answer = await database.AskAsync(
            $"SELECT string_agg(t || E'\\x01' || left(value, 60) || E'\\x01' || how, E'\\x02') FROM ({asked}) x"
        );
        return [.. answer.Split('\u0002').Select(line => line.Split('\u0001')).Select(parts => (int.Parse(parts[0]), parts[1], parts[2]))];
    }
}
