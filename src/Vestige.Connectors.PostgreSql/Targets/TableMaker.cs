using Npgsql;
using Vestige.Connectors.PostgreSql.Catalogue;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>Makes tables on a target, and what they are made of, within one transaction.</summary>
internal sealed class TableMaker(PostgreSqlTargetTransaction transaction, NpgsqlConnection connection, string endpoint)
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
                await transaction.RunAsync($"DROP TABLE {Quote.Name(table.Name)}", $"Dropping {table.Name}", cancellation);
                await MakeAsync(table, cancellation);
            }
        }
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
