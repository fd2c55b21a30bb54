using Vestige.Connectors.StandIn.Native;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Faults;

namespace Vestige.Connectors.StandIn.Targets;

/// <summary>The statements that change a table. SQLite adds, drops and renames columns, and changes none (SQLite, ALTER TABLE).</summary>
internal static class TableEdit
{
    public static IReadOnlyList<string> StatementsFor(SchemaEdit edit)
    {
        ArgumentNullException.ThrowIfNull(edit);
        var added = edit.Changes.Where(change => change.Kind == SchemaChangeKind.ColumnAdded).Select(change => change.Subject).ToHashSet();
        return
        [
            .. edit
                .Changes.Where(change => !change.KeepsRows || !added.Contains(change.Subject))
                .Select(change => $"ALTER TABLE {Quote.Name(edit.After.Name.Name)} {ActionFor(edit, change)}"),
        ];
    }

    private static string ActionFor(SchemaEdit edit, SchemaChange change) =>
        change.Kind switch
        {
            SchemaChangeKind.ColumnAdded => Add(edit, change.Subject),
            SchemaChangeKind.ColumnDropped => $"DROP COLUMN {Quote.Name(change.Subject)}",
            SchemaChangeKind.ColumnRenamed => $"RENAME COLUMN {Quote.Name(change.Before!)} TO {Quote.Name(change.Subject)}",
            _ => throw new PortException($"A stand-in does not change a column: {change.Words}.")
            {
                Remedy = "Load the table again.",
            },
        };

    private static string Add(SchemaEdit edit, string name)
    {
        var column = edit.After.Columns[edit.After.IndexOf(name)];
        var mustHave = edit.Changes.Any(change => change.KeepsOut && change.Subject == name);
        var value = column.Missing is { } missing ? $"{(mustHave ? " NOT NULL" : "")} DEFAULT {missing}" : "";
        return $"ADD COLUMN {Quote.Name(name)} {column.Type}".TrimEnd() + value;
    }
}
