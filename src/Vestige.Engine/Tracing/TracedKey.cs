using System.Globalization;
using Vestige.Core.Changes;
using Vestige.Core.Schemas;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Tracing;

/// <summary>
/// A key as a person types it, against the keys that rows have: a value may stand there as text or, in some engines, as a number.
/// </summary>
internal sealed class TracedKey
{
    private readonly IReadOnlyList<string> values;
    private readonly Row? known;
    private readonly Dictionary<TableSchema, HashSet<RowKey>> keys = new(ReferenceEqualityComparer.Instance);

    /// <param name="values">By column of the key.</param>
    /// <param name="known">
    /// The row as the source has it now, by which its values are written as the log writes them; null when it is not there.
    /// </param>
    public TracedKey(IReadOnlyList<string> values, Row? known)
    {
        this.values = values;
        this.known = known;
    }

    /// <summary>Under which hashes changes of the row are found, for a form of its table.</summary>
    public IEnumerable<ulong> HashesIn(TableSchema form)
    {
        var table = KeyHash.Of(form.Name);
        return RowsIn(form).Select(row => KeyHash.Of(table, row, form.KeyOrdinals));
    }

    /// <summary>Whether a change is of the row.</summary>
    public bool Is(TableSchema form, RowChange change)
    {
        if (change.Kind is ChangeKind.Truncate or ChangeKind.Schema)
        {
            return true;
        }

        if (!keys.TryGetValue(form, out var mine))
        {
            keys.Add(form, mine = [.. RowsIn(form).Select(row => RowKey.Of(row, form.KeyOrdinals))]);
        }

        return mine.Count > 0
            && (
                (!change.Before.IsNone && mine.Contains(RowKey.Of(change.Before, form.KeyOrdinals)))
                || (!change.After.IsNone && mine.Contains(RowKey.Of(change.After, form.KeyOrdinals)))
            );
    }

    private List<Row> RowsIn(TableSchema form)
    {
        if (!form.HasKey || form.KeyOrdinals.Count != values.Count)
        {
            return [];
        }

        List<Row> rows = [Written(form, asNumbers: false), Written(form, asNumbers: true)];
        if (known is { } row && row.Count == form.Columns.Count)
        {
            rows.Add(row);
        }

        return rows;
    }

    private Row Written(TableSchema form, bool asNumbers)
    {
        var writer = new RowWriter();
        writer.Begin(form.Columns.Count);
        for (var i = 0; i < form.Columns.Count; i++)
        {
            var ordinal = form.Columns[i].KeyOrdinal - 1;
            if (ordinal < 0)
            {
                writer.Absent();
            }
            else if (
                asNumbers && long.TryParse(values[ordinal], NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var number)
            )
            {
                writer.Integer(number);
            }
            else
            {
                writer.Text(values[ordinal]);
            }
        }

        return writer.ToRow();
    }
}
