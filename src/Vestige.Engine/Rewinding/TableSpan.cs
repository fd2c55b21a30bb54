using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Routes;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Rewinding;

/// <summary>
/// What the log has of one table between two positions: how much it is, and what can be determined from it. Earlier rows can where it has
/// every row whole as it was before each change; later ones, where it has all that was done to them. Not safe for several threads.
/// </summary>
/// <param name="format">Writes positions.</param>
/// <param name="to">
/// The target, by its identity, to which the changes are to be applied again; null where earlier rows are to be determined.
/// </param>
internal sealed class TableSpan(Func<LogPosition, string> format, string? to)
{
    /// <summary>Changes of rows.</summary>
    public long Changes { get; private set; }

    /// <summary>What those rows take in the log, before and after.</summary>
    public long Bytes { get; private set; }

    /// <summary>Why that cannot be determined, as the end of a sentence; null where they can.</summary>
    public string? Problem { get; private set; }

    /// <summary>The form in which the rows were logged last; null where none was.</summary>
    public TableSchema? Form { get; private set; }

    /// <summary>What there is of some tables after one position up to another; see the class for what it is to serve.</summary>
    public static async Task<IReadOnlyDictionary<TableName, TableSpan>> ReadAsync(
        Spool spool,
        LogPosition after,
        LogPosition upTo,
        IEnumerable<TableName> tables,
        Func<LogPosition, string> format,
        CancellationToken cancellation,
        string? to = null
    )
    {
        var spans = tables.ToDictionary(table => table, _ => new TableSpan(format, to));
        await SpoolSpan.ReadAsync(spool, after, upTo, fragment => Take(spool, fragment, spans), cancellation);
        return spans;
    }

    private static void Take(Spool spool, SpooledFragment fragment, Dictionary<TableName, TableSpan> spans)
    {
        var changes = new ChangeReader(fragment.Changes);
        while (changes.TryRead(out var change))
        {
            var form = spool.Relation(change.Relation);
            if (spans.TryGetValue(form.Name, out var span))
            {
                span.Take(form, change, fragment);
            }
        }
    }

    private void Take(TableSchema form, RowChange change, SpooledFragment fragment)
    {
        var position = fragment.Position;
        if (to is not null && fragment.Route is { } route && Route.Parse(route).Has(to))
        {
            Problem ??= $"at position {format(position)} a change came from the target itself";
        }

        Problem ??= change.Kind switch
        {
            ChangeKind.Schema when SchemaNotice.Of(change) is { KeepsRows: false } notice =>
                $"its schema was changed at position {format(position)}: {notice.What}",
            ChangeKind.Truncate => $"it was truncated at position {format(position)}",
            ChangeKind.Update or ChangeKind.Delete when to is null && (change.Before.IsNone || change.Before.HasAbsent) =>
                $"at position {format(position)} the source logged only the key of a row as it was before",
            _ => null,
        };
        if (change.Kind == ChangeKind.Schema)
        {
            return;
        }

        // Rows of the earlier form may still follow the note of a schema change.
        if (Form is { } other && !ReferenceEquals(other, form) && !SchemaFingerprint.IsOf(SchemaFingerprint.Of(other), form))
        {
            Problem ??= $"its rows have other columns from position {format(position)} on";
        }

        Changes++;
        Bytes += change.Before.Bytes.Length + change.After.Bytes.Length;
        Form = form;
    }
}
