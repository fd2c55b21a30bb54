using Npgsql;
using NpgsqlTypes;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Catalogue;

/// <summary>
/// Counts rows without reading all of a large table: up to <see cref="RowCount.MostCounted"/> exactly, beyond that by the estimate of the
/// last ANALYZE or VACUUM (PostgreSQL manual, pg_class: reltuples, -1 where there was none), of all its leaves where it is partitioned.
/// </summary>
internal static class BoundedCount
{
    private const string Estimate = """
        SELECT CASE WHEN bool_and(c.reltuples >= 0) THEN sum(c.reltuples::float8)::int8 END
        FROM pg_class c WHERE c.oid = to_regclass($1) AND c.relkind <> 'p'
          OR c.oid IN (SELECT p.relid FROM pg_partition_tree(to_regclass($1)) p WHERE p.isleaf)
        """;

    /// <summary>The rows of a table.</summary>
    /// <param name="connection">Where.</param>
    /// <param name="rows">What is read, as it stands after FROM.</param>
    /// <param name="table">The table.</param>
    /// <param name="only">Which of its rows; null for all.</param>
    /// <param name="cancellation">Gives up.</param>
    public static async Task<RowCount> OfAsync(
        NpgsqlConnection connection,
        string rows,
        TableName table,
        SharedRows? only,
        CancellationToken cancellation
    )
    {
        var where = only is null ? "" : $" WHERE {Quote.Name(only.Column)} = $1";
        await using var count = new NpgsqlCommand(
            $"SELECT count(*) FROM (SELECT FROM {rows}{where} LIMIT {RowCount.MostCounted + 1}) few",
            connection
        );
        if (only is not null)
        {
            count.Parameters.Add(PostgreSqlDatabase.Text(only.Value));
        }

        var counted = (long)(await count.ExecuteScalarAsync(cancellation))!;
        if (counted <= RowCount.MostCounted)
        {
            return new RowCount(counted);
        }

        return only is null && await EstimateAsync(connection, table, cancellation) is { } estimate and > RowCount.MostCounted
            ? new RowCount(estimate, RowPrecision.About)
            : new RowCount(RowCount.MostCounted, RowPrecision.Over);
    }

    private static async Task<long?> EstimateAsync(NpgsqlConnection connection, TableName table, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(Estimate, connection);
        command.Parameters.Add(new NpgsqlParameter { Value = Quote.Name(table), NpgsqlDbType = NpgsqlDbType.Text });
        return await command.ExecuteScalarAsync(cancellation) as long?;
    }
}
