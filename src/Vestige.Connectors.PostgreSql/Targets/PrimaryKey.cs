using Npgsql;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>The primary key that a table has, whatever it is called.</summary>
internal static class PrimaryKey
{
    private const string Sql = """
        SELECT coalesce(array_agg(a.attname::text ORDER BY array_position(i.indkey::int2[], a.attnum)), '{}')
        FROM pg_index i JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = ANY (i.indkey::int2[])
        WHERE i.indrelid = to_regclass($1) AND i.indisprimary AND i.indimmediate
        """;

    /// <summary>Its columns in order; empty when there is none, or no such table.</summary>
    public static async Task<IReadOnlyList<string>> OfAsync(NpgsqlConnection connection, TableName table, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(Sql, connection);
        command.Parameters.Add(PostgreSqlDatabase.Text(Quote.Name(table)));
        return (string[])(await command.ExecuteScalarAsync(cancellation))!;
    }
}
