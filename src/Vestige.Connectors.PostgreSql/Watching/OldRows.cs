using System.Globalization;
using Npgsql;

namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>
/// Tells whether a table that has a new file still has rows from before. VACUUM FULL, CLUSTER and a move to another tablespace keep the
/// transaction that wrote each row; a conversion of a column writes every row again, and a truncation leaves none. So one old row
/// proves that nothing happened to the rows. (Tried on PostgreSQL 15; that ALTER TABLE inserts again: manual, Caveats of MVCC.)
/// </summary>
internal static class OldRows
{
    /// <summary>False also where the role may not look, or the look takes too long.</summary>
    /// <param name="connection">To the database.</param>
    /// <param name="table">The table's number.</param>
    /// <param name="horizon">Rows of transactions before this one are old; 0 when nothing is known.</param>
    /// <param name="cancellation">Gives up.</param>
    public static async Task<bool> AreThereAsync(NpgsqlConnection connection, uint table, long horizon, CancellationToken cancellation)
    {
        if (horizon == 0)
        {
            return false;
        }

        await using var ask = new NpgsqlCommand(
            "SELECT CASE WHEN has_table_privilege(c.oid, 'SELECT') THEN (CASE c.relkind WHEN 'p' THEN '' ELSE 'ONLY ' END) || "
                + "quote_ident(n.nspname) || '.' || quote_ident(c.relname) END FROM pg_class c JOIN pg_namespace n ON n.oid = "
                + $"c.relnamespace WHERE c.oid = {table}::oid",
            connection
        );
        if (await ask.ExecuteScalarAsync(cancellation) is not string rows)
        {
            return false;
        }

        var writer = ((uint)horizon).ToString(CultureInfo.InvariantCulture);
        try
        {
            await using var transaction = await connection.BeginTransactionAsync(cancellation);
            await using var guard = new NpgsqlCommand(
                PostgreSqlDatabase.LookLimits,
                connection
            );
            await guard.ExecuteNonQueryAsync(cancellation);
            await using var look = new NpgsqlCommand(
                $"SELECT EXISTS (SELECT FROM {rows} WHERE age(xmin) > age('{writer}'::xid))",
                connection
            );
            return await look.ExecuteScalarAsync(cancellation) is true;
        }
        catch (PostgresException exception) when (exception.SqlState is "42P01" or "57014" or "55P03" or "42501")
        {
            return false;
        }
    }
}
