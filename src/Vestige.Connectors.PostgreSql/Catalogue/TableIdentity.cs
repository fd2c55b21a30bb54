namespace Vestige.Connectors.PostgreSql.Catalogue;

/// <summary>
/// Expressions that tell which table and which columns these are (PostgreSQL manual, System Catalogs). They are written with the
/// catalogue's own numbers, so that neither a search path nor the order of two statements changes them, and shared by all
/// who read a schema: what was loaded, what the log carries and what is watched are compared by them.
/// </summary>
internal static class TableIdentity
{
    /// <summary>
    /// The numbers of the key columns of <c>c</c>: of the replica identity's index where one is named, else of the primary key, unless it
    /// is deferrable.
    /// </summary>
    public const string Key = """
        ARRAY(SELECT k.attnum FROM pg_index i CROSS JOIN LATERAL unnest(i.indkey::int2[]) WITH ORDINALITY AS k(attnum, place)
          WHERE i.indrelid = c.oid AND k.place <= i.indnkeyatts AND ((c.relreplident = 'i'
              AND i.indisreplident) OR (c.relreplident <> 'i' AND i.indisprimary AND i.indimmediate))
          ORDER BY k.place)
        """;

    /// <summary>
    /// A digest of the kind, the columns and the key of <c>c</c>. The default of a generated column is told by its catalogue row.
    /// </summary>
    public const string Shape = $"""
        md5(concat_ws('|', c.relkind, c.relpersistence, (
          SELECT string_agg(concat_ws(' ', a.attnum, quote_ident(a.attname), a.atttypid, a.atttypmod,
              CASE WHEN a.attgenerated <> '' THEN a.attgenerated::text || d.oid::text END), ',' ORDER BY a.attnum)
          FROM pg_attribute a LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
          WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped), array_to_string({Key}, ' ')))
        """;

    /// <summary>Which transaction wrote the catalogue row of each column of <c>c</c>.</summary>
    public const string Writers = """
        md5((SELECT string_agg(a.attnum || ':' || a.xmin, ',' ORDER BY a.attnum) FROM pg_attribute a
            WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped))
        """;

    /// <summary>A digest of all enums and composite types of the database.</summary>
    public const string Types = """
        md5(concat_ws('|',
          (SELECT string_agg(e.oid || ' ' || e.enumlabel, ',' ORDER BY e.oid) FROM pg_enum e),
          (SELECT string_agg(concat_ws(' ', a.attrelid, a.attnum, a.attname, a.atttypid, a.atttypmod), ',' ORDER BY a.attrelid, a.attnum)
           FROM pg_class t JOIN pg_attribute a ON a.attrelid = t.oid WHERE t.relkind = 'c' AND a.attnum > 0 AND NOT a.attisdropped)))
        """;

    /// <summary>Whether the server can log a changed row of <c>c</c>; of a partitioned table, of each of its parts.</summary>
    public const string Identified = $"""
        CASE c.relkind WHEN 'p' THEN {IdentifiedItself} AND NOT EXISTS (
          SELECT FROM pg_partition_tree(c.oid) p JOIN pg_class l ON l.oid = p.relid WHERE p.isleaf AND NOT (
            l.relreplident = 'f' OR EXISTS (SELECT FROM pg_index i
                WHERE i.indrelid = l.oid AND ((l.relreplident = 'i' AND i.indisreplident) OR (l.relreplident = 'd' AND i.indisprimary
                    AND i.indimmediate)))))
        ELSE {IdentifiedItself} END
        """;

    private const string IdentifiedItself = """
        (c.relreplident = 'f' OR EXISTS (SELECT FROM pg_index i
            WHERE i.indrelid = c.oid AND ((c.relreplident = 'i' AND i.indisreplident) OR (c.relreplident = 'd' AND i.indisprimary
                AND i.indimmediate))))
        """;
}
