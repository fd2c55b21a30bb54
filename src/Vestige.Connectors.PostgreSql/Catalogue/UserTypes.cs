using Npgsql;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Catalogue;

/// <summary>The types that are not the system's, each as the statement that makes it, in an order in which they can be made.</summary>
internal sealed class UserTypes
{
    /// <summary>Checks of a domain that copies do not get: old values may break them, or they ask for more than the value.</summary>
    private const string LeftOut = """
        (NOT k.convalidated OR EXISTS (SELECT FROM pg_depend f
            WHERE f.classid = 'pg_constraint'::regclass AND f.objid = k.oid AND f.refclassid = 'pg_proc'::regclass AND f.refobjid >= 16384
          AND NOT EXISTS (SELECT FROM pg_depend e WHERE e.classid = f.refclassid AND e.objid = f.refobjid AND e.deptype = 'e')))
        """;

    private const string Sql = $"""
        SELECT format_type(t.oid, NULL), n.nspname::text,
          ARRAY(SELECT k.conname::text FROM pg_constraint k WHERE k.contypid = t.oid AND k.contype = 'c' AND {LeftOut} ORDER BY 1),
          CASE t.typtype
            WHEN 'e' THEN 'CREATE TYPE ' || format_type(t.oid, NULL) || ' AS ENUM (' ||
              (SELECT string_agg(quote_literal(e.enumlabel), ', ' ORDER BY e.enumsortorder) FROM pg_enum e WHERE e.enumtypid = t.oid) || ')'
            WHEN 'd' THEN 'CREATE DOMAIN ' || format_type(t.oid, NULL) || ' AS ' || format_type(t.typbasetype, t.typtypmod) ||
              CASE WHEN t.typnotnull THEN ' NOT NULL' ELSE '' END ||
              coalesce((SELECT string_agg(' CONSTRAINT ' || quote_ident(k.conname) || ' ' || pg_get_constraintdef(k.oid), ''
                  ORDER BY k.conname) FROM pg_constraint k WHERE k.contypid = t.oid AND k.contype = 'c' AND NOT ({LeftOut})), '')
            WHEN 'c' THEN 'CREATE TYPE ' || format_type(t.oid, NULL) || ' AS (' ||
              (SELECT string_agg(quote_ident(a.attname) || ' ' || format_type(a.atttypid, a.atttypmod), ', ' ORDER BY a.attnum)
                  FROM pg_attribute a WHERE a.attrelid = t.typrelid AND a.attnum > 0 AND NOT a.attisdropped) || ')'
            WHEN 'r' THEN 'CREATE TYPE ' || format_type(t.oid, NULL) || ' AS RANGE (SUBTYPE = ' ||
              (SELECT format_type(r.rngsubtype, NULL) FROM pg_range r WHERE r.rngtypid = t.oid) || ')'
          END,
          x.extname::text, xn.nspname::text,
          ARRAY(SELECT format_type(a.atttypid, NULL) FROM pg_attribute a
              WHERE a.attrelid = t.typrelid AND a.attnum > 0 AND NOT a.attisdropped)
            || CASE WHEN t.typbasetype <> 0 THEN ARRAY[format_type(t.typbasetype, NULL)] ELSE ARRAY[]::text[] END
            || ARRAY(SELECT format_type(r.rngsubtype, NULL) FROM pg_range r WHERE r.rngtypid = t.oid)
        FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace
        LEFT JOIN pg_class c ON c.oid = t.typrelid
        LEFT JOIN pg_depend p ON p.classid = 'pg_type'::regclass AND p.objid = t.oid AND p.deptype = 'e'
        LEFT JOIN pg_extension x ON x.oid = p.refobjid LEFT JOIN pg_namespace xn ON xn.oid = x.extnamespace
        WHERE t.oid >= 16384 AND t.typtype IN ('e', 'd', 'c', 'r', 'b') AND t.typelem = 0 AND (t.typtype <> 'c' OR c.relkind = 'c')
        ORDER BY t.oid
        """;

    private readonly Dictionary<string, (IReadOnlyList<SchemaObject> Parts, IReadOnlyList<string> Uses)> known = [];

    public static async Task<UserTypes> ReadAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        var types = new UserTypes();
        await using var command = new NpgsqlCommand(Sql, connection);
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        while (await reader.ReadAsync(cancellation))
        {
            var name = reader.GetString(0);
            types.known[name] = (
                PartsOf(
                    name,
                    reader.GetString(1),
                    reader.GetFieldValue<string[]>(2),
                    reader.IsDBNull(3) ? null : reader.GetString(3),
                    reader.IsDBNull(4) ? null : reader.GetString(4),
                    reader.IsDBNull(5) ? null : reader.GetString(5)
                ),
                reader.GetFieldValue<string[]>(6)
            );
        }

        return types;
    }

    /// <summary>The statements that make a column's type where it is missing: what it is made of first.</summary>
    public IEnumerable<SchemaObject> Needed(string type)
    {
        var bare = type.EndsWith("[]", StringComparison.Ordinal) ? type[..^2] : type;
        var bracket = bare.IndexOf('(', StringComparison.Ordinal);
        bare = bracket > 0 ? bare[..bracket] : bare;
        return known.TryGetValue(bare, out var found) ? found.Uses.SelectMany(Needed).Concat(found.Parts) : [];
    }

    /// <summary>The statements that make an extension.</summary>
    /// <param name="name">What of it is needed.</param>
    /// <param name="extension">Its name.</param>
    /// <param name="schema">Where its objects go.</param>
    public static IReadOnlyList<SchemaObject> PartsOfExtension(string name, string extension, string schema) =>
        [
            SchemaOf(schema),
            new SchemaObject(
                SchemaStage.Before,
                name,
                $"CREATE EXTENSION IF NOT EXISTS {Quote.Name(extension)} SCHEMA {Quote.Name(schema)}"
            )
            {
                Needs = [FoundNeed.OfExtension(extension)],
            },
        ];

    private static IReadOnlyList<SchemaObject> PartsOf(
        string name,
        string schema,
        string[] leftOut,
        string? statement,
        string? extension,
        string? extensionSchema
    ) =>
        extension is not null ? PartsOfExtension(name, extension, extensionSchema!)
        : statement is null ? []
        :
        [
            SchemaOf(schema),
            new SchemaObject(SchemaStage.Before, name, statement),
            .. leftOut.Select(check => new SchemaObject(SchemaStage.Before, $"{check} of the type {name}", "")
            {
                NotMade = "it is NOT VALID at the source, or calls a function that may ask for more than the value itself",
            }),
        ];

    private static SchemaObject SchemaOf(string schema) =>
        new(SchemaStage.Before, Quote.Name(schema), $"CREATE SCHEMA IF NOT EXISTS {Quote.Name(schema)}");
}
