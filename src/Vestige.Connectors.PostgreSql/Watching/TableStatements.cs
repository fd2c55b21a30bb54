using Vestige.Connectors.PostgreSql.Catalogue;

namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>
/// What a look at the catalogue asks of tables, and what the event trigger at the source notes of them: the two are compared, so they are
/// the same statements, run under the same settings of the session.
/// </summary>
internal static class TableStatements
{
    /// <summary>
    /// One row a table. <c>$1</c> and <c>$2</c> are schemas and names, <c>$3</c> numbers of tables, <c>$4</c> and <c>$5</c> the names of
    /// the two publications.
    /// </summary>
    public const string Facts = $"""
        SELECT c.oid, n.nspname::text, c.relname::text, {TableIdentity.Shape} AS shape, coalesce({TableIdentity.Writers},
            '') || '.' || types.print AS stamp,
               (SELECT string_agg(a.attnum || ':' || a.atthasmissing, ',' ORDER BY a.attnum) FROM pg_attribute a
                   WHERE a.attrelid = c.oid AND a.attnum > 0 AND a.atthasmissing) AS missing,
               CASE c.relkind WHEN 'p' THEN (SELECT coalesce(sum(l.relfilenode::int8), 0)::int8 FROM pg_partition_tree(c.oid) p
                   JOIN pg_class l ON l.oid = p.relid) ELSE c.relfilenode::int8 END AS file,
               (SELECT r.oid FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid
                   WHERE r.prrelid = c.oid AND p.pubname = $4) AS whole,
               (SELECT r.oid FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid
                   WHERE r.prrelid = c.oid AND p.pubname = $5) AS inserts,
               {TableIdentity.Identified} AS identified, types.print AS types, {TableIdentity.Key} AS key,
               c.relnatts AS attributes,
               (SELECT string_agg(r.oid || ':' || r.conname, ',' ORDER BY r.oid) FROM pg_constraint r
                   WHERE r.conrelid = c.oid AND r.contype IN ('c', 'f', 'u', 'x')) AS constraints,
               (SELECT string_agg(i.indexrelid || ':' || x.relname, ',' ORDER BY i.indexrelid) FROM pg_index i
                   JOIN pg_class x ON x.oid = i.indexrelid WHERE i.indrelid = c.oid AND i.indisunique AND NOT i.indisprimary) AS uniques
        FROM (SELECT {TableIdentity.Types} AS print) types CROSS JOIN (
          SELECT c.oid FROM unnest($1::text[], $2::text[]) t(schema, name) JOIN pg_namespace n ON n.nspname = t.schema
              JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = t.name
          UNION SELECT unnest($3::text[]::oid[])) wanted
        JOIN pg_class c ON c.oid = wanted.oid JOIN pg_namespace n ON n.oid = c.relnamespace
        """;

    /// <summary>
    /// Of a partitioned table the parts have the values of rows that are older than a column. Looked up for those only: a database may have
    /// many thousands of columns.
    /// </summary>
    private const string OfParts =
        "pg_partition_tree(a.attrelid) t JOIN pg_attribute p ON p.attrelid = t.relid AND p.attname = a.attname WHERE p.atthasmissing";

    /// <summary>One row a column. <c>$1</c> are numbers of tables.</summary>
    public const string Columns = $"""
        SELECT a.attrelid, a.attnum AS number, a.attname::text AS name, format_type(a.atttypid, a.atttypmod) AS type,
            a.atttypid AS type_number, a.atttypmod AS modifier, a.attgenerated <> '' AS generated, a.xmin::text AS writer,
            CASE k.relkind WHEN 'p' THEN EXISTS (SELECT FROM {OfParts}) ELSE a.atthasmissing END AS has_missing,
            NOT a.attnotnull AS nullable, pg_get_expr(d.adbin, d.adrelid) AS default_text,
            CASE WHEN k.relkind = 'p' THEN (
                SELECT CASE WHEN count(DISTINCT p.attmissingval::text) = 1 THEN (min(p.attmissingval::text)::text[])[1] END FROM {OfParts})
            WHEN a.atthasmissing THEN (a.attmissingval::text::text[])[1] END AS missing
        FROM pg_attribute a JOIN pg_class k ON k.oid = a.attrelid
            LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
        WHERE a.attrelid = ANY ($1::text[]::oid[]) AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attrelid, a.attnum
        """;

    /// <summary>What keeps rows out of tables: <c>$1</c> are their numbers.</summary>
    public const string Guards = """
        SELECT r.conrelid, r.oid AS number, r.conname::text AS name, pg_get_constraintdef(r.oid) AS text FROM pg_constraint r
        WHERE r.conrelid = ANY ($1::text[]::oid[]) AND r.contype IN ('c', 'f', 'u', 'x')
        UNION ALL
        SELECT i.indrelid, i.indexrelid, x.relname::text, pg_get_indexdef(i.indexrelid) FROM pg_index i
            JOIN pg_class x ON x.oid = i.indexrelid
        WHERE i.indrelid = ANY ($1::text[]::oid[]) AND i.indisunique AND NOT i.indisprimary
          AND NOT EXISTS (SELECT FROM pg_constraint k WHERE k.conindid = i.indexrelid AND k.contype IN ('u', 'x'))
        ORDER BY 1, 2
        """;
}
