using Npgsql;
using Vestige.Connectors.PostgreSql.Catalogue;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
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
                await DropAsync(table.Name, cancellation);
                await MakeAsync(table, cancellation);
            }
        }
    }

    /// <summary>Drops tables that are there.</summary>
    public async Task DropAsync(IReadOnlyList<TableName> tables, CancellationToken cancellation)
    {
        await transaction.RunAsync("SET LOCAL lock_timeout = '2s'", "Setting a limit for locks", cancellation);
        foreach (var table in tables)
        {
            if (await transaction.IsThereAsync($"to_regclass({Quote.Literal(Quote.Name(table))})", cancellation))
            {
                await DropAsync(table, cancellation);
            }
        }
    }

    /// <summary>
    /// Takes tables of one schema away, to be restored. What of others refers to them would go with them, and read what no longer changes:
    /// that is refused.
    /// </summary>
    public async Task TakeAwayAsync(string id, IReadOnlyList<TableName> tables, CancellationToken cancellation)
    {
        await transaction.RunAsync("SET LOCAL lock_timeout = '2s'", "Setting a limit for locks", cancellation);
        var there = new List<TableName>();
        foreach (var table in tables)
        {
            if (await transaction.IsThereAsync($"to_regclass({Quote.Literal(Quote.Name(table))})", cancellation))
            {
                there.Add(table);
                await ThrowIfPartitionedAsync(table, cancellation);
            }
        }

        if (await FollowersOfAsync(there, cancellation) is { Count: > 0 } followers)
        {
            throw new PortException(
                $"{string.Join(", ", there)} in {endpoint} cannot be kept apart: {string.Join(", ", followers)} needs it."
            )
            {
                Remedy = "Drop what needs it first, or keep the tables where they are.",
            };
        }

        await transaction.RunAsync(UndoSchema.CreateFor(id), "Making a schema for tables that can be restored", cancellation);
        foreach (var table in there)
        {
            await DropReferencesAsync(table, there, cancellation);
            await DropReferencesFromAsync(table, there, cancellation);
            await transaction.RunAsync(UndoSchema.MoveOf(id, table), $"Taking {table} away", cancellation);
        }
    }

    /// <summary>Its parts would stay behind.</summary>
    private async Task ThrowIfPartitionedAsync(TableName table, CancellationToken cancellation)
    {
        var name = Quote.Literal(Quote.Name(table));
        if (await transaction.IsThereAsync($"(SELECT min(1) FROM pg_inherits WHERE inhparent = to_regclass({name}))", cancellation))
        {
            throw new PortException($"{table} in {endpoint} is made of parts, and cannot be kept apart.")
            {
                Remedy = "Keep it where it is, or drop it at once.",
            };
        }
    }

    private async Task<IReadOnlyList<string>> FollowersOfAsync(List<TableName> tables, CancellationToken cancellation)
    {
        try
        {
            return await UndoSchema.FollowersOfAsync(connection, tables, own, cancellation);
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"Looking for what needs tables in {endpoint}");
        }
    }

    /// <summary>References to tables that stay would keep those from changing.</summary>
    private async Task DropReferencesFromAsync(TableName table, List<TableName> together, CancellationToken cancellation)
    {
        IReadOnlyList<string> references;
        try
        {
            references = await UndoSchema.ReferencesFromAsync(connection, table, together, cancellation);
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"Looking for references of {table} in {endpoint}");
        }

        foreach (var reference in references)
        {
            await transaction.RunAsync(
                $"ALTER TABLE {Quote.Name(table)} DROP CONSTRAINT {Quote.Name(reference)}",
                $"Dropping {reference} of {table}",
                cancellation
            );
        }
    }

    /// <summary>
    /// Changes a table. It waits two seconds at most for those who read the table: while it waits, everybody who comes later waits behind
    /// it (PostgreSQL manual, Explicit Locking). References that the crossing has made go with the key that they need: at the source they
    /// went with it or before.
    /// </summary>
    public async Task ChangeAsync(SchemaEdit edit, CancellationToken cancellation)
    {
        var table = edit.After.Name;
        var changes = new List<SchemaChange>();
        foreach (var change in edit.Changes)
        {
            if (TableEdit.NeedsOwn(change) is not { } name || await HasAsync(table, name, cancellation))
            {
                changes.Add(change);
            }
        }

        var dropped = changes
            .Where(change => change.Kind == SchemaChangeKind.ConstraintDropped)
            .Select(change => change.Subject)
            .ToHashSet();
        var references = dropped.Count == 0 ? [] : await ReferencesToAsync(table, cancellation);
        await transaction.RunAsync(
            string.Join(
                "; ",
                [
                    "SET LOCAL lock_timeout = '2s'",
                    .. references.Where(one => dropped.Contains(one.Key) && own.Contains(one.From)).Select(DropStatement),
                    .. TableEdit.StatementsFor(edit with { Changes = changes }),
                    "SET LOCAL lock_timeout = 0",
                ]
            ),
            $"Changing {table}",
            cancellation
        );
    }

    private static string DropStatement((TableName From, string Name, string Key) reference) =>
        $"ALTER TABLE {Quote.Name(reference.From)} DROP CONSTRAINT {Quote.Name(reference.Name)}";

    /// <summary>Whether a table has a constraint or an index of that name.</summary>
    private Task<bool> HasAsync(TableName table, string name, CancellationToken cancellation)
    {
        var number = $"to_regclass({Quote.Literal(Quote.Name(table))})";
        return transaction.IsThereAsync(
            $"(SELECT min(1) FROM (SELECT FROM pg_constraint WHERE conrelid = {number} AND conname = {Quote.Literal(name)} "
                + $"UNION ALL SELECT FROM pg_index i JOIN pg_class x ON x.oid = i.indexrelid WHERE i.indrelid = {number} AND x.relname = "
                + $"{Quote.Literal(name)}) found)",
            cancellation
        );
    }

    private async Task DropAsync(TableName table, CancellationToken cancellation)
    {
        await DropReferencesAsync(table, [], cancellation);
        await transaction.RunAsync($"DROP TABLE {Quote.Name(table)}", $"Dropping {table}", cancellation);
    }

    /// <summary>
    /// A table to which others refer cannot be dropped. References from tables of others stay, and the server refuses then; so do those
    /// from tables that go together with it.
    /// </summary>
    private async Task DropReferencesAsync(TableName table, List<TableName> together, CancellationToken cancellation)
    {
        foreach (var reference in await ReferencesToAsync(table, cancellation))
        {
            if (reference.From != table && own.Contains(reference.From) && !together.Contains(reference.From))
            {
                await transaction.RunAsync(DropStatement(reference), $"Dropping {reference.Name} of {reference.From}", cancellation);
            }
        }
    }

    /// <summary>The references to a table, each with the name of the key or unique index of it that it needs.</summary>
    private async Task<List<(TableName From, string Name, string Key)>> ReferencesToAsync(TableName table, CancellationToken cancellation)
    {
        const string Sql = """
            SELECT n.nspname::text, c.relname::text, r.conname::text, k.relname::text FROM pg_constraint r
                JOIN pg_class c ON c.oid = r.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_class k ON k.oid = r.conindid
            WHERE r.contype = 'f' AND r.conparentid = 0 AND r.confrelid = to_regclass($1)
            """;
        var found = new List<(TableName, string, string)>();
        try
        {
            await using var command = new NpgsqlCommand(Sql, connection);
            command.Parameters.Add(PostgreSqlDatabase.Text(Quote.Name(table)));
            await using var reader = await command.ExecuteReaderAsync(cancellation);
            while (await reader.ReadAsync(cancellation))
            {
                found.Add((new TableName(reader.GetString(0), reader.GetString(1)), reader.GetString(2), reader.GetString(3)));
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
