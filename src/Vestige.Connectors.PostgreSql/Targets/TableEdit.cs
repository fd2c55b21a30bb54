using Vestige.Connectors.PostgreSql.Watching;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Faults;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>
/// The statements that change a table. A column that is added with a value for the rows that are there gets that as its default for a
/// moment: the server keeps it in its catalog and writes no row (PostgreSQL manual, ALTER TABLE, Notes). Defaults that call functions are
/// left out, as where tables are made.
/// </summary>
internal static class TableEdit
{
    public static IReadOnlyList<string> StatementsFor(SchemaEdit edit)
    {
        ArgumentNullException.ThrowIfNull(edit);
        return
        [
            .. edit.Changes.SelectMany(change =>
                IsOfIndex(change) ? [IndexStatement(edit.After.Name, change)]
                : change.Kind == SchemaChangeKind.PartDetached ? [$"DELETE FROM {Quote.Name(edit.After.Name)} WHERE {change.Before}"]
                : ActionsFor(edit, change).Select(action => $"ALTER TABLE {Quote.Name(edit.After.Name)} {action}")
            ),
        ];
    }

    /// <summary>
    /// The name of an index or constraint that has to be one of the target's table for the change; null where the statement says it all.
    /// </summary>
    public static string? NeedsOwn(SchemaChange change) =>
        change.Kind == SchemaChangeKind.ConstraintRenamed ? change.Before
        : IsOfIndex(change) ? change.Subject
        : null;

    private static bool IsOfIndex(SchemaChange change) =>
        (change.Kind == SchemaChangeKind.ConstraintDropped && GuardState.IsOfIndex(change.Before))
        || change is { Kind: SchemaChangeKind.ConstraintRenamed, After: "an index" };

    private static string IndexStatement(TableName table, SchemaChange change) =>
        change.Kind == SchemaChangeKind.ConstraintDropped
            ? $"DROP INDEX IF EXISTS {Quote.Name(table with { Name = change.Subject })}"
            : $"ALTER INDEX {Quote.Name(table with { Name = change.Before! })} RENAME TO {Quote.Name(change.Subject)}";

    private static IEnumerable<string> ActionsFor(SchemaEdit edit, SchemaChange change)
    {
        var column = Quote.Name(change.Subject);
        return change.Kind switch
        {
            SchemaChangeKind.ColumnAdded => Adding(edit, edit.After.Columns[edit.After.IndexOf(change.Subject)]),
            SchemaChangeKind.ColumnDropped => [$"DROP COLUMN {column}"],
            SchemaChangeKind.ColumnRenamed => [$"RENAME COLUMN {Quote.Name(change.Before!)} TO {column}"],
            SchemaChangeKind.TypeChanged when edit.After.Columns[edit.After.IndexOf(change.Subject)].Type is var type =>
            [
                $"ALTER COLUMN {column} TYPE {type} USING {column}::{type}",
            ],
            SchemaChangeKind.NullabilityChanged when change.KeepsOut && IsFilled(edit, change.Subject) => [],
            SchemaChangeKind.NullabilityChanged when change.KeepsOut => [$"ALTER COLUMN {column} SET NOT NULL"],
            SchemaChangeKind.NullabilityChanged => [$"ALTER COLUMN {column} DROP NOT NULL"],
            SchemaChangeKind.ConstraintDropped => [$"DROP CONSTRAINT IF EXISTS {column}"],
            SchemaChangeKind.ConstraintRenamed => [$"RENAME CONSTRAINT {Quote.Name(change.Before!)} TO {column}"],
            SchemaChangeKind.DefaultChanged when change.After is null => [$"ALTER COLUMN {column} DROP DEFAULT"],
            SchemaChangeKind.DefaultChanged => IsConstant(change) ? [$"ALTER COLUMN {column} SET DEFAULT {change.After}"] : [],
            _ => throw new PortException($"A table is not changed like that: {change.Words}.") { Remedy = "Load the table again." },
        };
    }

    private static IEnumerable<string> Adding(SchemaEdit edit, Column column)
    {
        var add = $"ADD COLUMN {Quote.Name(column.Name)} {column.Type}";
        if (column.Missing is not { } missing)
        {
            return [add];
        }

        var mustHave = edit.Changes.Any(change => change.KeepsOut && change.Subject == column.Name);
        var hasDefault = edit.Changes.Any(change =>
            change.Kind == SchemaChangeKind.DefaultChanged && change.Subject == column.Name && IsConstant(change)
        );
        add += $" DEFAULT {Quote.Literal(missing)}::{column.Type}{(mustHave ? " NOT NULL" : "")}";
        return hasDefault ? [add] : [add, $"ALTER COLUMN {Quote.Name(column.Name)} DROP DEFAULT"];
    }

    /// <summary>Whether it is added with a value, and so as one that takes no NULL at once.</summary>
    private static bool IsFilled(SchemaEdit edit, string column) =>
        edit.After.Columns[edit.After.IndexOf(column)].Missing is not null
        && edit.Changes.Any(change => change.Kind == SchemaChangeKind.ColumnAdded && change.Subject == column);

    private static bool IsConstant(SchemaChange change) => change.After?.Contains('(', StringComparison.Ordinal) == false;
}
