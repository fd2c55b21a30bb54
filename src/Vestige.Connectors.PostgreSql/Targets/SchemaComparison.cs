using Npgsql;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>Compares a form with the table that is on the target.</summary>
internal static class SchemaComparison
{
    private const string Sql = """
        SELECT a.attname::text, format_type(a.atttypid, a.atttypmod), coalesce(k.attnum, 0) > 0, a.attgenerated <> ''
        FROM pg_attribute a LEFT JOIN (
          SELECT i.indrelid, unnest(i.indkey::int2[]) AS attnum FROM pg_index i
              WHERE i.indisprimary) k ON k.indrelid = a.attrelid AND k.attnum = a.attnum
        WHERE a.attrelid = to_regclass($1) AND a.attnum > 0 AND NOT a.attisdropped
        ORDER BY a.attnum
        """;

    /// <summary>What differs, in words; null when every column is there with its type and no other is.</summary>
    public static async Task<string?> DifferenceAsync(NpgsqlConnection connection, TableSchema form, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(Sql, connection);
        command.Parameters.Add(PostgreSqlDatabase.Text(Quote.Name(form.Name)));
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        var there = new Dictionary<string, string>();
        var generated = new HashSet<string>();
        while (await reader.ReadAsync(cancellation))
        {
            if (reader.GetBoolean(3))
            {
                generated.Add(reader.GetString(0));
            }
            else
            {
                there[reader.GetString(0)] = reader.GetString(1);
            }
        }

        if (there.Count + generated.Count == 0)
        {
            return "there is no such table";
        }

        foreach (var column in form.Columns)
        {
            if (!there.Remove(column.Name, out var type))
            {
                return $"column {column.Name} is missing there";
            }

            if (type != column.Type)
            {
                return $"column {column.Name} is {column.Type} in the changes and {type} there";
            }
        }

        if (
            form.Statement is null
            && form.Objects.FirstOrDefault(part => IsGeneratedColumn(part) && !generated.Contains(part.Name)) is { } missing
        )
        {
            return $"generated column {missing.Name} is missing there";
        }

        return there.Count > 0 ? $"column {there.Keys.First()} exists only there" : null;
    }

    private static bool IsGeneratedColumn(SchemaObject part) =>
        part.Stage == SchemaStage.Within && part.Text.Contains(" GENERATED ALWAYS AS (", StringComparison.Ordinal);
}
