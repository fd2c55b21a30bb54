using Vestige.Connectors.StandIn.Native;
using Vestige.Core.Changes;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;

namespace Vestige.Connectors.StandIn.Targets;

/// <summary>Rows that a stand-in refuses, with what it said.</summary>
internal static class RowRefusals
{
    /// <summary>A row that was refused when it was written.</summary>
    public static RowRefusedException Of(StandInDatabase database, TableSchema table, ChangeKind kind, Row row, string answer)
    {
        var key = RowKey.Display(row, table.KeyOrdinals);
        return new RowRefusedException($"{database.Name} refused {ChangeSymbols.Of(kind)} of {table.Name} {key}: {answer}.")
        {
            Table = table.Name,
            Kind = kind,
            Key = key,
            Answer = answer,
            Remedy = "Remove the cause on the target, then resume: the row is tried again. Everything before it is applied.",
        };
    }

    /// <summary>
    /// A commit that was refused since a row refers to one that is not there. Asks which, in the transaction that continues.
    /// </summary>
    public static RowRefusedException OfReference(StandInDatabase database, Exception inner)
    {
        using var check = new Statement(
            database.Handle,
            "SELECT \"table\", rowid, parent FROM pragma_foreign_key_check LIMIT 1",
            database.Name
        );
        var found = check.Step();
        var table = found ? check.Text(0) : "";
        var parent = found ? check.Text(2) : "";
        var key = found && !check.IsNull(1) ? check.Text(1) : "";
        return new RowRefusedException(
            $"{database.Name} refused the commit: row {key} of {table} refers to a row of {parent} that is not there.",
            inner
        )
        {
            Table = new TableName(database.Name, table),
            Kind = ChangeKind.Insert,
            Key = key,
            Answer = "FOREIGN KEY constraint failed",
            Remedy = $"Restore the row of {parent} on the target, then resume.",
        };
    }
}
