using Vestige.Connectors.PostgreSql.Tests.Servers;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>Values of every kind keep their text form, by load and by log; both servers digest them themselves.</summary>
public sealed class TypeTests(TwoServers servers)
{
    /// <summary>What the types need.</summary>
    internal const string Setup = """
        CREATE EXTENSION citext; CREATE EXTENSION hstore;
        CREATE TYPE mood AS ENUM ('fine', 'it''s "odd"');
        CREATE DOMAIN "Postal Code" AS text NOT NULL CHECK (VALUE ~ '^[0-9]{5}$');
        CREATE TYPE address AS (street text, code text, floor int, m mood);
        CREATE TYPE span AS RANGE (subtype = float8);

        """;

    /// <summary>Boundary values of every type, as the server's expressions.</summary>
    internal static readonly Dictionary<string, string[]> Values = new()
    {
        ["boolean"] = ["true", "false"],
        ["smallint"] = ["-32768", "32767", "0"],
        ["integer"] = ["-2147483648", "2147483647"],
        ["bigint"] = ["-9223372036854775808", "9223372036854775807"],
        ["numeric"] =
        [
            "'NaN'",
            "'Infinity'",
            "'-Infinity'",
            "0.0000",
            "123456789012345678901234567890.123456789012345678901234567890",
            "-0.10",
            "1e-30",
            "'1' || repeat('0', 2000)",
        ],
        ["numeric(12,4)"] = ["12345678.1234", "-0.0001", "'NaN'"],
        ["numeric(5,-2)"] = ["12345", "-99900"],
        ["real"] = ["'NaN'", "'Infinity'", "'-0'", "3.4028235e38", "1e-45", "0.1"],
        ["double precision"] = ["'NaN'", "'-Infinity'", "'-0'", "1.7976931348623157e308", "5e-324", "0.1", "0.30000000000000004"],
        ["money"] = ["'12.34'", "'-92233720368547758.08'"],
        ["text"] =
        [
            "''",
            "'tab\t, newline\n, return\r, backslash \\ , quote '' , null \\N'",
            "'grüße 漢字 🐟'",
            "E'\\\\.'",
            "E'\\b\\f\\v\\001\\177'",
            "repeat('long ', 20000)",
        ],
        ["varchar(10)"] = ["'ten chars!'", "'trail     '"],
        ["char(6)"] = ["'ab'", "''"],
        ["\"char\""] = ["'x'", "''"],
        ["name"] = ["'some_name'"],
        ["bytea"] = ["''", "'\\x00ff5c0a0d'", "decode(repeat('00', 3000), 'hex')"],
        ["date"] = ["'infinity'", "'-infinity'", "'4713-01-01 BC'", "'5874897-12-31'", "'2026-02-28'"],
        ["time"] = ["'24:00:00'", "'23:59:59.999999'"],
        ["timetz"] = ["'12:00:00+15:59'", "'04:05:06.789-08'"],
        ["timestamp"] = ["'infinity'", "'4713-01-01 00:00:00 BC'", "'294276-12-31 23:59:59.999999'", "'2026-03-29 02:30:00.000001'"],
        ["timestamptz"] = ["'-infinity'", "'2026-03-29 02:30:00.000001 Europe/Berlin'", "'0001-01-01 00:00:00+00 BC'"],
        ["timestamp(0)"] = ["'2026-01-01 00:00:00.5'"],
        ["interval"] = ["'1 year -2 mons 3 days 04:05:06.789'", "'-178000000 years'", "'0'"],
        ["interval day to second(2)"] = ["'3 days 04:05:06.78'"],
        ["uuid"] = ["'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'"],
        ["json"] = ["'{\"b\": 1,   \"a\": [1.10, null],\n \"a\": 2}'", "'\"\\u00e9\"'", "'1e400'"],
        ["jsonb"] = ["'{\"b\": 1, \"a\": [1.10, null]}'", "'12345678901234567890.12345678901234567890'"],
        ["jsonpath"] = ["'$.a[*] ? (@ > 1)'"],
        ["xml"] = ["'<a b=\"c\">text &amp; more</a>'", "'just text'"],
        ["inet"] = ["'192.168.0.1/24'", "'::1'"],
        ["cidr"] = ["'10.0.0.0/8'", "'2001:db8::/32'"],
        ["macaddr"] = ["'08:00:2b:01:02:03'"],
        ["macaddr8"] = ["'08:00:2b:01:02:03:04:05'"],
        ["bit(5)"] = ["B'10101'"],
        ["bit varying"] = ["B'1'", "B''"],
        ["point"] = ["'(1.5,-2e300)'"],
        ["line"] = ["'{1,2,3}'"],
        ["lseg"] = ["'[(0,0),(1,1)]'"],
        ["box"] = ["'(2,2),(0,0)'"],
        ["path"] = ["'[(0,0),(1,1)]'", "'((0,0),(1,1))'"],
        ["polygon"] = ["'((0,0),(1,1),(1,0))'"],
        ["circle"] = ["'<(0,0),2.5>'"],
        ["tsvector"] = ["'a:1A fat:2B,4C'::tsvector", "to_tsvector('simple', 'it''s')"],
        ["tsquery"] = ["'fat & (rat | !cat)'"],
        ["pg_lsn"] = ["'16/B374D848'"],
        ["oid"] = ["4294967295"],
        ["regclass"] = ["'pg_class'"],
        ["regtype"] = ["'integer'"],
        ["int4range"] = ["'[1,5)'", "'empty'", "'(,)'"],
        ["numrange"] = ["'[0.1,)'"],
        ["tstzrange"] = ["'[2026-01-01 00:00+00,infinity]'"],
        ["datemultirange"] = ["'{[2026-01-01,2026-02-01),[2027-01-01,)}'", "'{}'"],
        ["integer[]"] = ["'{}'", "'{1,NULL,3}'", "'[-1:1]={1,2,3}'", "'{{1,2},{3,4}}'"],
        ["text[]"] = ["ARRAY['', NULL, 'null', 'with \"quotes\" and {braces}', 'back\\slash', 'a,b']"],
        ["numeric(6,2)[]"] = ["'{1.10,NULL}'"],
        ["timestamptz[]"] = ["'{infinity,2026-01-01 00:00:00+00}'"],
        ["mood"] = ["'fine'", "'it''s \"odd\"'"],
        ["mood[]"] = ["'{fine,\"it''s \\\"odd\\\"\"}'"],
        ["public.\"Postal Code\""] = ["'01234'"],
        ["address"] = ["ROW('12 \"High\" Street, Flat 3', '01234', NULL, 'fine')"],
        ["address[]"] = ["ARRAY[ROW('a', '99999', 3, 'fine')::address, NULL]"],
        ["span"] = ["'[0.5,1.5)'"],
        ["public.citext"] = ["'MiXed'"],
        ["public.hstore"] = ["'a=>1, \"b c\"=>NULL, d=>\"quo\\\"te\"'"],
    };

    [Fact]
    public async Task Source_text_form_is_target_text_form()
    {
        var a = await servers.A.MakeDatabaseAsync();
        var b = await servers.B.MakeDatabaseAsync();
        await a.RunAsync(Setup);
        var tables = new List<string>();
        foreach (var (type, values) in Values)
        {
            var table = $"t{tables.Count}";
            tables.Add(table);
            var nullable = type == "public.\"Postal Code\"" ? "" : ", (-1, NULL)";
            await a.RunAsync(
                $"CREATE TABLE {table} (id int PRIMARY KEY, v {type}); INSERT INTO {table} VALUES "
                    + $"{string.Join(", ", values.Select((value, i) => $"({i}, ({value})::{type})"))}{nullable}"
            );
        }

        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await crossing.SameAsync([.. tables]);
        foreach (var table in tables)
        {
            await a.RunAsync(
                $"INSERT INTO {table} SELECT id + 100, v FROM {table}; UPDATE {table} SET v = (SELECT v FROM {table} WHERE id = 0) "
                    + $"WHERE id < 50; DELETE FROM {table} WHERE id = 100"
            );
        }

        await crossing.SameAsync([.. tables]);
        foreach (var table in tables)
        {
            await a.RunAsync($"INSERT INTO {table} SELECT i * 1000 + id, v FROM {table}, generate_series(1, 30) i");
        }

        await crossing.SameAsync([.. tables]);
        var types =
            "SELECT string_agg(c.relname || ' ' || format_type(a.atttypid, a.atttypmod), ', ' ORDER BY c.relname) FROM pg_class c "
            + "JOIN pg_attribute a ON a.attrelid = c.oid WHERE c.relnamespace = 'public'::regnamespace AND c.relkind = 'r' AND "
            + "a.attname = 'v'";
        Assert.Equal(await a.AskAsync(types), await b.AskAsync(types));
        Assert.All(crossing.Status.Tables, table => Assert.Equal(0, table.Tally.Unexpected.Total));
    }
}
