using Npgsql;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>Compares a form with the table that is on the target.</summary>
internal static class FormComparison
{
    private const string Sql = """
        SELECT a.attname::text, format_type(a.atttypid, a.atttypmod), coalesce(k.attnum, 0) > 0
        FROM pg_attribute a LEFT JOIN (
          SELECT i.indrelid, unnest(i.indkey::int2[]) AS attnum FROM pg_index i WHERE i.indisprimary) k ON k.indrelid = a.attrelid AND k.attnum = a.attnum
        WHERE a.attrelid = to_regclass($1) AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = ''
        ORDER BY a.attnum
        """;

    /// <summary>What differs, in words; null when every column is there with its type and no other is.</summary>
    public static async Task<string?> DifferenceAsync(NpgsqlConnection connection, TableSchema form, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(Sql, connection);
        command.Parameters.Add(PostgreSqlDatabase.Text(Quote.Name(form.Name)));
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        var there = new Dictionary<string, string>();
        while (await reader.ReadAsync(cancellation))
        {
            there[reader.GetString(0)] = reader.GetString(1);
        }

        if (there.Count == 0)
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

        return there.Count > 0 ? $"column {there.Keys.First()} exists only there" : null;
    }
}
