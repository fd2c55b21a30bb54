using System.Security.Cryptography;
using System.Text;
using Npgsql;
using Vestige.Connectors.PostgreSql.Catalogue;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>
/// Replaces the rows of a table by those of a table beside it, in Vestige's own schema. That one is not logged by the server: it is
/// written and read within one load, and a server that crashes between ends the connections of that load, which then begins again.
/// </summary>
internal sealed class RowsBeside(PostgreSqlTargetTransaction transaction)
{
    /// <summary>One of so many rows is many.</summary>
    private const int ManyOf = 10;

    /// <summary>What the names of the tables of a crossing begin with.</summary>
    public static string PrefixOf(string crossing) => $"load_{Short(crossing)}_";

    /// <summary>Drops what interrupted loads of a crossing have left.</summary>
    public static async Task DropAsync(NpgsqlConnection connection, string crossing, CancellationToken cancellation)
    {
        var left = new List<string>();
        await using (
            var find = new NpgsqlCommand(
                "SELECT relname::text FROM pg_class WHERE relnamespace = to_regnamespace('vestige') AND starts_with(relname, $1)",
                connection
            )
        )
        {
            find.Parameters.Add(PostgreSqlDatabase.Text(PrefixOf(crossing)));
            await using var reader = await find.ExecuteReaderAsync(cancellation);
            while (await reader.ReadAsync(cancellation))
            {
                left.Add(reader.GetString(0));
            }
        }

        foreach (var name in left)
        {
            await using var drop = new NpgsqlCommand($"DROP TABLE IF EXISTS {Quote.Name(new TableName("vestige", name))}", connection);
            await drop.ExecuteNonQueryAsync(cancellation);
        }
    }

    public static TableSchema Of(string crossing, TableSchema table)
    {
        var name = new TableName("vestige", PrefixOf(crossing) + Short(table.Name.ToText()));
        var lines = table.Columns.Select(column =>
            CreateTableStatement.Line(column.Name, column.Type, column.Collation, null, null, notNull: false)
        );
        var create = CreateTableStatement.Of(name, lines).Replace("CREATE TABLE", "CREATE UNLOGGED TABLE", StringComparison.Ordinal);
        return new TableSchema(name, [.. table.Columns.Select(column => column with { KeyOrdinal = 0 })], [], [])
        {
            Objects =
            [
                .. table.Objects.Where(part => part.Stage == SchemaStage.Before),
                new SchemaObject(SchemaStage.Table, name.Name, create),
            ],
        };
    }

    public async Task MakeAsync(TableSchema beside, CancellationToken cancellation)
    {
        await transaction.RunAsync($"DROP TABLE IF EXISTS {Quote.Name(beside.Name)}", "Dropping what an earlier load left", cancellation);
        await transaction.CreateTablesAsync([beside], TableMaking.WhereMissing, cancellation);
    }

    public async Task<ReplacedRows> ReplaceAsync(TableSchema table, TableSchema beside, long rows, CancellationToken cancellation)
    {
        var there = await transaction.CountAsync(beside.Name, cancellation);
        if (there != rows)
        {
            throw new PortException(
                $"Of {Figures.Of(rows, "row")} of {table.Name} that were loaded, the target has {Figures.Count(there)}. "
                    + "Nothing was replaced."
            )
            {
                Transient = true,
                Remedy = "Vestige loads the table again automatically.",
            };
        }

        var replaced = table.HasKey
            ? await ReplaceByKeyAsync(new RowReplacement(table, beside), table, rows, cancellation)
            : await ReplaceAllAsync(new RowReplacement(table, beside), table, cancellation);
        await RunAsync($"DROP TABLE {Quote.Name(beside.Name)}", table, cancellation);
        return replaced;
    }

    private async Task<ReplacedRows> ReplaceAllAsync(RowReplacement statements, TableSchema table, CancellationToken cancellation)
    {
        var deleted = await RunAsync(statements.DeleteAll, table, cancellation);
        return new ReplacedRows(await RunAsync(statements.InsertAll, table, cancellation), 0, deleted);
    }

    /// <summary>
    /// Rows that differ are updated. Where they are many that costs twice as much as deleting and inserting them, and where a unique value
    /// goes from one row to another the server refuses it; so they are deleted and inserted then, unless references would act on that.
    /// </summary>
    private async Task<ReplacedRows> ReplaceByKeyAsync(
        RowReplacement statements,
        TableSchema table,
        long rows,
        CancellationToken cancellation
    )
    {
        await RunAsync("SET LOCAL work_mem = '256MB'", table, cancellation);
        await RunAsync(statements.Find, table, cancellation);
        var replaced = await transaction.CountAsync(RowReplacement.Count, cancellation);
        var isUpdated =
            !transaction.LeavesTriggersAside
            || (replaced.Updated < rows / ManyOf && !await HasOtherUniqueValuesAsync(table, cancellation));
        if (isUpdated)
        {
            await RunAsync(statements.DeleteGone, table, cancellation);
            await RunAsync(statements.UpdateOther, table, cancellation);
            await RunAsync(statements.InsertMissing, table, cancellation);
        }
        else
        {
            var isNoneEqual = replaced.Inserted + replaced.Updated == rows;
            await RunAsync(isNoneEqual ? statements.DeleteAll : statements.DeleteFound, table, cancellation);
            await RunAsync(isNoneEqual ? statements.InsertAll : statements.InsertFound, table, cancellation);
        }

        return replaced;
    }

    private Task<bool> HasOtherUniqueValuesAsync(TableSchema table, CancellationToken cancellation) =>
        transaction.IsThereAsync(
            "(SELECT min(indexrelid) FROM pg_index WHERE (indisunique OR indisexclusion) AND NOT indisprimary AND indrelid = "
                + $"{Quote.Literal(Quote.Name(table.Name))}::regclass)",
            cancellation
        );

    private Task<long> RunAsync(string statement, TableSchema table, CancellationToken cancellation) =>
        transaction.RunAsync(statement, $"Replacing rows of {table.Name}", cancellation, table);

    private static string Short(string text) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text)))[..12];
}
