using Npgsql;
using Vestige.Connectors.PostgreSql.Catalogue;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>Makes tables on a target, and what they are made of, within one transaction.</summary>
/// <param name="transaction">The transaction.</param>
/// <param name="connection">Its connection.</param>
/// <param name="endpoint">The target, as messages name it.</param>
/// <param name="own">Tables that the crossing has made: references from them are built again once all tables stand together.</param>
internal sealed class TableMaker(
    PostgreSqlTargetTransaction transaction,
    NpgsqlConnection connection,
    string endpoint,
    IReadOnlySet<TableName> own
)
{
    /// <summary>Makes schemas, extensions and types that are missing, then the tables.</summary>
    public async Task MakeAsync(IReadOnlyList<TableSchema> tables, TableMaking making, CancellationToken cancellation)
    {
        foreach (
            var part in tables
                .SelectMany(table => table.Objects)
                .Where(part => part.Stage == SchemaStage.Before)
                .DistinctBy(part => part.Statement)
        )
        {
            if (!await transaction.IsThereAsync(There(part), cancellation))
            {
                await transaction.RunAsync(part.Statement, $"Making {part.Name}", cancellation);
            }
            else
            {
                await AgreeAsync(part, cancellation);
            }
        }

        foreach (var table in tables)
        {
            if (!await transaction.IsThereAsync($"to_regclass({Quote.Literal(Quote.Name(table.Name))})", cancellation))
            {
                await MakeAsync(table, cancellation);
            }
            else if (
                making == TableMaking.WhereMissingOrSame
                && await SchemaComparison.DifferenceAsync(connection, table, cancellation) is { } difference
            )
            {
                throw new PortException(
                    $"{table.Name} in {endpoint} has other columns: {difference}. It also holds rows of other source tables."
                )
                {
                    Remedy = "Load all tables that go into it again, at once.",
                };
            }
            else if (
                making == TableMaking.Anew
                || (making == TableMaking.WhereOther && await SchemaComparison.DifferenceAsync(connection, table, cancellation) is not null)
            )
            {
                await DropReferencesAsync(table.Name, cancellation);
                await transaction.RunAsync($"DROP TABLE {Quote.Name(table.Name)}", $"Dropping {table.Name}", cancellation);
                await MakeAsync(table, cancellation);
            }
        }
    }

    /// <summary>
    /// A table to which others refer cannot be dropped. References from tables of others stay, and the server refuses then.
    /// </summary>
    private async Task DropReferencesAsync(TableName table, CancellationToken cancellation)
    {
        foreach (var (from, name) in await ReferencesToAsync(table, cancellation))
        {
            if (from != table && own.Contains(from))
            {
                await transaction.RunAsync(
                    $"ALTER TABLE {Quote.Name(from)} DROP CONSTRAINT {Quote.Name(name)}",
                    $"Dropping {name} of {from}",
                    cancellation
                );
            }
        }
    }

    private async Task<List<(TableName From, string Name)>> ReferencesToAsync(TableName table, CancellationToken cancellation)
    {
        const string Sql = """
            SELECT n.nspname::text, c.relname::text, r.conname::text FROM pg_constraint r JOIN pg_class c ON c.oid = r.conrelid
                JOIN pg_namespace n ON n.oid = c.relnamespace
            WHERE r.contype = 'f' AND r.conparentid = 0 AND r.confrelid = to_regclass($1)
            """;
        var found = new List<(TableName, string)>();
        try
        {
            await using var command = new NpgsqlCommand(Sql, connection);
            command.Parameters.Add(PostgreSqlDatabase.Text(Quote.Name(table)));
            await using var reader = await command.ExecuteReaderAsync(cancellation);
            while (await reader.ReadAsync(cancellation))
            {
                found.Add((new TableName(reader.GetString(0), reader.GetString(1)), reader.GetString(2)));
            }
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"Looking for references to {table} in {endpoint}");
        }

        return found;
    }

    private static string There(SchemaObject part) =>
        part.Statement.StartsWith("CREATE SCHEMA", StringComparison.Ordinal) ? $"to_regnamespace({Quote.Literal(part.Name)})"
        : part.Needs.FirstOrDefault(need => need.Kind == FoundNeed.ExtensionKind) is { } extension
            ? $"(SELECT oid FROM pg_extension WHERE extname = {Quote.Literal(extension.Name)})"
        : $"to_regtype({Quote.Literal(part.Name)})";

    private async Task AgreeAsync(SchemaObject part, CancellationToken cancellation)
    {
        try
        {
            await TargetTypes.AgreeAsync(connection, part, endpoint, cancellation);
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"Adding labels to {part.Name} in {endpoint}");
        }
    }

    private async Task MakeAsync(TableSchema table, CancellationToken cancellation)
    {
        if (table.Statement is not { } own)
        {
            await transaction.RunAsync(
                table.Objects.Single(part => part.Stage == SchemaStage.Table).Statement,
                $"Making {table.Name}",
                cancellation
            );
            return;
        }

        try
        {
            // As one command of a batch the server takes a single statement only, whatever the text holds.
            await using var batch = new NpgsqlBatch(connection) { BatchCommands = { new NpgsqlBatchCommand(own.TrimEnd().TrimEnd(';')) } };
            await batch.ExecuteNonQueryAsync(cancellation);
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"Making {table.Name} by the definition's statement in {endpoint}");
        }

        if (await SchemaComparison.DifferenceAsync(connection, table, cancellation) is { } difference)
        {
            throw new PortException(
                $"The definition's statement for {table.Name} makes another table than its rows need: {difference}. Nothing was changed."
            )
            {
                Remedy = "Correct the statement in the definition, or remove it.",
            };
        }
    }
}
