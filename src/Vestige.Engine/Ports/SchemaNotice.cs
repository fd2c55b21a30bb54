using Vestige.Core.Changes;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>What a change of the kind <see cref="ChangeKind.Schema"/> says.</summary>
/// <param name="What">What was done to the table, as the end of a sentence, without its full stop.</param>
/// <param name="Values">Whether rows got other values by it without a change of a row in the log.</param>
/// <param name="IsExact">
/// Whether it stands in the log just where it was made, as a source whose log has schema changes tells it: a load before that place cannot
/// hold it.
/// </param>
public sealed record SchemaNotice(string What, bool Values = false, bool IsExact = false)
{
    private const int FirstAdded = 4;

    /// <summary>
    /// The columns that were added, where nothing else was done that concerns rows and every row that was there has NULL in them; empty
    /// otherwise.
    /// </summary>
    public IReadOnlyList<string> Adds { get; init; } = [];

    /// <summary>The <see cref="SchemaFingerprint"/> of the table before it; null where nothing is in <see cref="Adds"/>.</summary>
    public string? Before { get; init; }

    /// <summary>Stands in what happened where the source itself refuses writes of a table because it is captured.</summary>
    public const string WritesFail = "its updates and deletes fail at the source";

    /// <summary>Read from a change; one that says nothing names no more than that the columns changed.</summary>
    public static SchemaNotice Of(RowChange change) =>
        new(
            change.After.Count > 0 ? change.After.TextAt(0) : "its columns changed",
            change.After.Count > 1 && change.After.IntegerAt(1) != 0,
            change.After.Count == 1 || (change.After.Count > FirstAdded && change.After.IntegerAt(2) != 0)
        )
        {
            Before = change.After.Count > FirstAdded ? change.After.TextAt(FirstAdded - 1) : null,
            Adds = [.. Enumerable.Range(FirstAdded, Math.Max(0, change.After.Count - FirstAdded)).Select(change.After.TextAt)],
        };

    /// <summary>As the row after of the change.</summary>
    public void Write(RowWriter row)
    {
        ArgumentNullException.ThrowIfNull(row);
        if (Adds.Count > 0)
        {
            WriteAdded(row);
            return;
        }

        row.Begin(IsExact ? 1 : 2);
        row.Text(What);
        if (!IsExact)
        {
            row.Integer(Values ? 1 : 0);
        }
    }

    private void WriteAdded(RowWriter row)
    {
        row.Begin(FirstAdded + Adds.Count);
        row.Text(What);
        row.Integer(Values ? 1 : 0);
        row.Integer(IsExact ? 1 : 0);
        row.Text(Before ?? "");
        foreach (var column in Adds)
        {
            row.Text(column);
        }
    }
}
