using Npgsql;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Catalogue;

/// <summary>
/// The functions, operators, operator classes and collations that the structure of tables uses and that a new database does not
/// have (PostgreSQL manual, pg_depend). Objects of the system itself are not recorded there, except collations of the machine. Those
/// that have been dropped meanwhile have no name any more.
/// </summary>
internal sealed class ObjectNeeds
{
    private const string Sql = """
        SELECT d.classid::regclass::text, d.objid::int8, d.objsubid, i.type, i.identity, a.object_names, a.object_args, x.extname::text,
            n.nspname::text
        FROM pg_depend d
        CROSS JOIN LATERAL pg_identify_object(d.refclassid, d.refobjid, 0) i
        CROSS JOIN LATERAL pg_identify_object_as_address(d.refclassid, d.refobjid, 0) a
        LEFT JOIN pg_depend e ON e.classid = d.refclassid AND e.objid = d.refobjid AND e.deptype = 'e'
        LEFT JOIN pg_extension x ON x.oid = e.refobjid LEFT JOIN pg_namespace n ON n.oid = x.extnamespace
        WHERE i.identity IS NOT NULL AND a.object_names IS NOT NULL
          AND d.deptype = 'n' AND d.classid IN ('pg_attrdef'::regclass, 'pg_constraint'::regclass, 'pg_class'::regclass)
          AND (d.refclassid = 'pg_collation'::regclass
            OR (d.refobjid >= 16384 AND d.refclassid IN ('pg_proc'::regclass, 'pg_operator'::regclass, 'pg_opclass'::regclass)))
        ORDER BY 1, 2, 3, 4, 5
        """;

    private readonly Dictionary<(string Catalogue, long Id, int Column), List<FoundNeed>> needs = [];

    public static async Task<ObjectNeeds> ReadAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        var read = new ObjectNeeds();
        await using var command = new NpgsqlCommand(Sql, connection);
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        while (await reader.ReadAsync(cancellation))
        {
            var need = new SchemaNeed(
                reader.GetString(3),
                reader.GetString(4),
                reader.GetFieldValue<string[]>(5),
                reader.GetFieldValue<string[]>(6)
            );
            var found = new FoundNeed(
                need,
                reader.IsDBNull(7) ? null : reader.GetString(7),
                reader.IsDBNull(8) ? null : reader.GetString(8)
            );
            var key = (reader.GetString(0), reader.GetInt64(1), reader.GetInt32(2));
            if (!read.needs.TryGetValue(key, out var list))
            {
                read.needs.Add(key, list = []);
            }

            list.Add(found);
        }

        return read;
    }

    public IReadOnlyList<FoundNeed> OfDefault(long id) => Of("pg_attrdef", id, 0);

    /// <summary>Of a constraint itself, and of the index that keeps it.</summary>
    public IReadOnlyList<FoundNeed> OfConstraint(long id, long index) => [.. Of("pg_constraint", id, 0), .. OfIndex(index)];

    public IReadOnlyList<FoundNeed> OfIndex(long id) => Of("pg_class", id, 0);

    /// <summary>The collation of a column.</summary>
    public IReadOnlyList<FoundNeed> OfColumn(long table, int number) => Of("pg_class", table, number);

    private IReadOnlyList<FoundNeed> Of(string catalogue, long id, int column) => needs.GetValueOrDefault((catalogue, id, column), []);
}
