using Npgsql;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>
/// Types that a target has already, as an earlier load made them. The source's may have changed since: labels that an enum lacks are
/// added, which changes no row; a composite type with other attributes is left to a person, since other columns may use it.
/// </summary>
internal static class TargetTypes
{
    private const string Enum = " AS ENUM (";
    private const string Composite = " AS (";

    public static async Task AgreeAsync(NpgsqlConnection connection, SchemaObject part, string endpoint, CancellationToken cancellation)
    {
        await GrowAsync(connection, part, cancellation);
        if (
            Inside(part.Statement, Composite) is { } attributes
            && await AttributesAsync(connection, part.Name, cancellation) is { } there
            && there != attributes
        )
        {
            throw new PortException($"The type {part.Name} is ({there}) in {endpoint}, and ({attributes}) at the source.")
            {
                Remedy = $"Change it on the target with ALTER TYPE {part.Name}, then load the table again.",
            };
        }
    }

    /// <summary>Adds the labels that an enum lacks; returns the statements that did.</summary>
    public static async Task<IReadOnlyList<string>> GrowAsync(
        NpgsqlConnection connection,
        SchemaObject part,
        CancellationToken cancellation
    )
    {
        if (Inside(part.Statement, Enum) is not { } labels)
        {
            return [];
        }

        var statements = await MissingAsync(connection, part.Name, labels, cancellation);
        foreach (var statement in statements)
        {
            await using var add = new NpgsqlCommand(statement, connection);
            await add.ExecuteNonQueryAsync(cancellation);
        }

        return statements;
    }

    private static string? Inside(string statement, string begin)
    {
        var at = statement.StartsWith("CREATE TYPE ", StringComparison.Ordinal) ? statement.IndexOf(begin, StringComparison.Ordinal) : -1;
        return at < 0 ? null : statement[(at + begin.Length)..^1];
    }

    /// <summary>
    /// The labels are literals that the source's server has quoted. The last comes first, so that the one before which each is added is
    /// there.
    /// </summary>
    private static async Task<List<string>> MissingAsync(
        NpgsqlConnection connection,
        string type,
        string labels,
        CancellationToken cancellation
    )
    {
        await using var command = new NpgsqlCommand(
            "SELECT format('ALTER TYPE %s ADD VALUE IF NOT EXISTS %L', $1::text, label) || "
                + "coalesce(' BEFORE ' || quote_literal(next), '') FROM "
                + $"(SELECT label, place, lead(label) OVER (ORDER BY place) AS next FROM unnest(ARRAY[{labels}]::text[]) WITH "
                + "ORDINALITY AS u(label, place)) l WHERE NOT EXISTS (SELECT FROM pg_enum e WHERE e.enumtypid = to_regtype($1) AND "
                + "e.enumlabel = label) ORDER BY place DESC",
            connection
        );
        command.Parameters.Add(PostgreSqlDatabase.Text(type));
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        var statements = new List<string>();
        while (await reader.ReadAsync(cancellation))
        {
            statements.Add(reader.GetString(0));
        }

        return statements;
    }

    private static async Task<string?> AttributesAsync(NpgsqlConnection connection, string type, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(
            "SELECT string_agg(quote_ident(a.attname) || ' ' || format_type(a.atttypid, a.atttypmod), ', ' ORDER BY a.attnum) FROM "
                + "pg_type t JOIN pg_attribute a ON a.attrelid = t.typrelid WHERE t.oid = to_regtype($1) AND a.attnum > 0 AND NOT "
                + "a.attisdropped",
            connection
        );
        command.Parameters.Add(PostgreSqlDatabase.Text(type));
        return await command.ExecuteScalarAsync(cancellation) as string;
    }
}
