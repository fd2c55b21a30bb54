using System.Collections.Immutable;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Following;

/// <summary>
/// Decides, change by change and in log order, what concerns a crossing: its tables, after the position at which each was
/// loaded, until a table is held, and only its inserts where nothing else is wanted. A change of a table's form holds the
/// table from there on.
/// </summary>
internal sealed class ChangeRouter(Spool spool, CrossingDefinition definition, ImmutableDictionary<TableName, TableProgress> tables)
{
    private readonly Dictionary<int, (TableSchema? Form, bool InsertsOnly)> forms = [];

    /// <summary>The progress per table, holds that were met included.</summary>
    public ImmutableDictionary<TableName, TableProgress> Tables { get; private set; } = tables;

    /// <summary>The form under which to apply the change; null when it is not to be applied.</summary>
    public TableSchema? Route(LogPosition position, RowChange change)
    {
        var (form, insertsOnly) = FormOf(change.Relation);
        if (form is null)
        {
            return null;
        }

        var progress = Tables[form.Name];
        if (progress.Held || position <= progress.Position)
        {
            return null;
        }

        if (change.Kind == ChangeKind.Schema)
        {
            Hold(progress, position, change.After);
            return null;
        }

        return insertsOnly && change.Kind != ChangeKind.Insert ? null : form;
    }

    private (TableSchema? Form, bool InsertsOnly) FormOf(int relation)
    {
        if (!forms.TryGetValue(relation, out var found))
        {
            var form = spool.Relation(relation);
            found = Tables.ContainsKey(form.Name) ? (form, definition.AppliedAs(form.Name) == ApplyMode.InsertOnly) : (null, false);
            forms.Add(relation, found);
        }

        return found;
    }

    private void Hold(TableProgress progress, LogPosition position, Row what)
    {
        var done = what.Count > 0 ? what.TextAt(0) : "its form changed";
        Tables = Tables.SetItem(progress.Table, progress with
        {
            Position = position,
            HeldCause = $"The table was changed at the source: {done}. Nothing is applied to it from there on. Load the table again to go on.",
        });
    }
}
