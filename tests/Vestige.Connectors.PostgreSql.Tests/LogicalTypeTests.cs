using Vestige.Connectors.PostgreSql.Catalogue;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Schemas;
using Vestige.Core.Types;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// What the server's types are to other engines, held against what the server itself says of its columns in the information schema (ISO/IEC
/// 9075-11) and against what it does with their values.
/// </summary>
public sealed class LogicalTypeTests(TwoServers servers)
{
    private static readonly Dictionary<string, LogicalKind> Kinds = new(StringComparer.Ordinal)
    {
        ["boolean"] = LogicalKind.Boolean,
        ["smallint"] = LogicalKind.Integer,
        ["integer"] = LogicalKind.Integer,
        ["bigint"] = LogicalKind.Integer,
        ["numeric"] = LogicalKind.Decimal,
        ["real"] = LogicalKind.Real,
        ["double precision"] = LogicalKind.Real,
        ["text"] = LogicalKind.Text,
        ["character varying"] = LogicalKind.Text,
        ["character"] = LogicalKind.Text,
        ["bytea"] = LogicalKind.Bytes,
        ["date"] = LogicalKind.Date,
        ["time without time zone"] = LogicalKind.Time,
        ["timestamp without time zone"] = LogicalKind.Timestamp,
        ["timestamp with time zone"] = LogicalKind.Instant,
        ["uuid"] = LogicalKind.Uuid,
        ["json"] = LogicalKind.Json,
        ["jsonb"] = LogicalKind.Json,
        ["ARRAY"] = LogicalKind.List,
    };

    private static readonly string[] More =
    [
        "varchar",
        "char(3)",
        "numeric(20)",
        "numeric(4,1)",
        "time(0)",
        "timestamp(3)",
        "timestamptz(2)",
        "bit(8)",
        "bigint[]",
        "numeric(6,2)[]",
        "varchar(5)[]",
        "mood[]",
    ];

    [Fact]
    public async Task Every_type_is_what_the_server_says_of_it_and_every_value_fits_where_it_is_declared()
    {
        var database = await servers.A.MakeDatabaseAsync();
        await database.RunAsync(TypeTests.Setup);
        List<string> types = [.. TypeTests.Values.Keys, .. More];
        await database.RunAsync(string.Join("; ", types.Select((type, i) => $"CREATE TABLE t{i} (v {type})")));
        for (var i = 0; i < types.Count; i++)
        {
            var spelled = await database.AskAsync(
                $"SELECT format_type(atttypid, atttypmod) FROM pg_attribute WHERE attrelid = 't{i}'::regclass AND attnum = 1"
            );
            var type = PostgreSqlTypes.Instance.TypeOf(new Column("v", spelled));
            Assert.Equal($"{types[i]}: {await SaidAsync(database, $"t{i}")}", $"{types[i]}: {Shown(type)}");
            var declared = PostgreSqlTypes.Instance.Declare(type);
            Assert.Equal((type.Element ?? type).Kind == LogicalKind.Opaque ? "text" : Own(spelled), declared);
            foreach (var value in TypeTests.Values.GetValueOrDefault(types[i]) ?? [])
            {
                // As another engine would send it: by its text.
                await database.RunAsync($"TRUNCATE t{i}; INSERT INTO t{i} SELECT ({value})::{types[i]}");
                Assert.Equal(
                    "t",
                    await database.AskAsync(
                        $"WITH w AS (SELECT format('%s', v) AS w FROM t{i}) SELECT left((format('%s', w::{declared}) = w)::text, 1) FROM w"
                    )
                );
            }
        }
    }

    /// <summary>Whatever type the server knows, built in or of an extension, is one, and has a column that holds it.</summary>
    [Fact]
    public async Task No_type_of_the_server_is_without_one()
    {
        var database = await servers.A.MakeDatabaseAsync();
        await database.RunAsync(TypeTests.Setup);
        var all = (
            await database.AskAsync("SELECT string_agg(DISTINCT format_type(oid, NULL), E'\\n') FROM pg_type WHERE typtype <> 'p'")
        ).Split('\n');
        Assert.True(all.Length > 150);
        var declared = all.Select(type => PostgreSqlTypes.Instance.Declare(PostgreSqlTypes.Instance.TypeOf(new Column("v", type))));
        Assert.DoesNotContain(all, type => PostgreSqlTypes.Instance.TypeOf(new Column("v", type)).Kind == LogicalKind.Any);
        await database.RunAsync($"CREATE TABLE every ({string.Join(", ", declared.Select((type, i) => $"c{i} {type}"))})");
    }

    /// <summary>
    /// What is written otherwise elsewhere only as to how the server keeps it is declared as the type that keeps it as it is.
    /// </summary>
    private static string Own(string spelled) =>
        spelled switch
        {
            "character varying" => "text",
            "jsonb" or "jsonb[]" => spelled.Replace("jsonb", "json", StringComparison.Ordinal),
            _ => spelled,
        };

    private static string Shown(LogicalType type)
    {
        var plain = type.Element ?? type;
        var limits = plain.Kind switch
        {
            LogicalKind.Integer => $"{plain.Bits}",
            LogicalKind.Real => plain.Bits == 32 ? "24" : "53",
            LogicalKind.Decimal => $"{plain.Precision},{plain.Scale}",
            LogicalKind.Text => $"{plain.Length}",
            LogicalKind.Time or LogicalKind.Timestamp or LogicalKind.Instant => $"{plain.Precision ?? 6}",
            _ => "",
        };
        return type.Element is null ? $"{type.Kind} {limits}" : $"{type.Kind} of {plain.Kind} {limits}";
    }

    /// <summary>
    /// What the information schema says, in the words above; of what has no kind of its own nothing but that. The server keeps a scale in
    /// 11 bits and shows a negative one there without its sign.
    /// </summary>
    private static async Task<string> SaidAsync(Database database, string table)
    {
        var said = (
            await database.AskAsync(
                "SELECT concat(c.data_type, '|', e.data_type, '|', c.domain_name, '|', CASE WHEN c.data_type = 'numeric' THEN "
                    + "concat(c.numeric_precision, ',', (c.numeric_scale # 1024) - 1024) ELSE coalesce(c.numeric_precision, "
                    + "c.character_maximum_length, "
                    + "c.datetime_precision)::text END, '|', format_type(a.atttypid, a.atttypmod)) FROM information_schema.columns c "
                    + "JOIN pg_attribute a ON a.attrelid = c.table_name::regclass AND a.attname = c.column_name LEFT JOIN "
                    + "information_schema.element_types e ON (e.object_name, e.collection_type_identifier) = (c.table_name, "
                    + $"c.dtd_identifier) WHERE c.table_name = '{table}'"
            )
        ).Split('|');
        var (name, element, domain, limits, spelled) = (said[0], said[1], said[2], said[3], said[4]);
        var kind = domain.Length > 0 ? LogicalKind.Opaque : Kinds.GetValueOrDefault(name, LogicalKind.Opaque);

        // Of elements the server's view tells the types only, and no limits.
        return kind switch
        {
            LogicalKind.List => $"{kind} of {Kinds.GetValueOrDefault(element, LogicalKind.Opaque)} {LimitsIn(spelled, element)}",
            LogicalKind.Date or LogicalKind.Opaque => $"{kind} ",
            _ => $"{kind} {limits}",
        };
    }

    /// <summary>The limits in parentheses; without parentheses, the type's own.</summary>
    private static string LimitsIn(string spelled, string element)
    {
        var open = spelled.IndexOf('(', StringComparison.Ordinal);
        return open >= 0
            ? spelled[(open + 1)..spelled.IndexOf(')', StringComparison.Ordinal)]
            : element switch
            {
                "smallint" => "16",
                "integer" => "32",
                "bigint" => "64",
                "real" => "24",
                "double precision" => "53",
                "numeric" => ",",
                _ when element.StartsWith("time", StringComparison.Ordinal) => "6",
                _ => "",
            };
    }
}
