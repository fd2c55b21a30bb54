using Vestige.Core.Changes;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Following;

/// <summary>
/// Reads rows of one form of a table as rows of another form of the same table, by the database's own numbers of columns. The forms differ
/// by columns that were added, dropped, renamed, or got a type that holds all their values.
/// </summary>
/// <param name="Relation">The number of the form that rows are read as.</param>
/// <param name="Places">For each column of that form, where the rows have it; -1 where they do not.</param>
/// <param name="Missing">For each, what such rows have in it where they do not have it; null for NULL.</param>
/// <param name="Keeps">
/// Whether what the rows do not have stays in an updated row as it is, since the copy keeps columns that the source has dropped.
/// </param>
internal sealed record EarlierRows(int Relation, IReadOnlyList<int> Places, IReadOnlyList<string?> Missing, bool Keeps)
{
    /// <summary>From rows of one form to rows of another; both have numbers of columns.</summary>
    public static EarlierRows Between(TableSchema form, TableSchema into, int relation, bool keeps)
    {
        var ordinals = form
            .Columns.Select((column, ordinal) => (column.Id, ordinal))
            .ToDictionary(pair => pair.Id!.Value, pair => pair.ordinal);
        return new EarlierRows(
            relation,
            [.. into.Columns.Select(column => ordinals.GetValueOrDefault(column.Id!.Value, -1))],
            [.. into.Columns.Select(column => column.Missing)],
            keeps
        );
    }

    /// <summary>The change as one of the other form.</summary>
    public RowChange Read(RowChange change) =>
        change with
        {
            Before = Read(change.Before, Keeps),
            After = Read(change.After, Keeps && change.Kind == ChangeKind.Update),
        };

    private Row Read(Row row, bool keeps)
    {
        if (row.IsNone)
        {
            return row;
        }

        var writer = new RowWriter();
        writer.Begin(Places.Count);
        for (var i = 0; i < Places.Count; i++)
        {
            if (Places[i] >= 0)
            {
                writer.Value(row.KindAt(Places[i]), row.ValueAt(Places[i]));
            }
            else if (keeps)
            {
                writer.Absent();
            }
            else if (Missing[i] is { } value)
            {
                writer.Text(value);
            }
            else
            {
                writer.Null();
            }
        }

        return writer.ToRow();
    }
}
