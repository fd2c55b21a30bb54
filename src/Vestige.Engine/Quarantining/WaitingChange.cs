using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Quarantining;

/// <summary>
/// A change of the source that waits to be applied, as it was before any treatment: tried again, it is treated as the definition
/// then says. Immutable.
/// </summary>
/// <param name="Schema">The source's table as it was when the change was written.</param>
/// <param name="Change">What happened to the row, or what its transaction did to it altogether where versions are kept.</param>
/// <param name="Position">Of its transaction's commit.</param>
/// <param name="Ordinal">Its place among the waiting changes of that transaction.</param>
/// <param name="CommittedAt">By the source's clock.</param>
/// <param name="SetAsideAt">When it was refused, or came behind one that was.</param>
/// <param name="State">What is to become of it.</param>
/// <param name="Into">The target's table that refused it; null while none has.</param>
/// <param name="Answer">The target's words, or the treatment's; empty where it only waits behind another.</param>
/// <param name="Tries">How often it was refused.</param>
/// <param name="TriedAt">When it was last refused; null while it only waits behind another.</param>
/// <param name="EditedBy">Who edited the row; null when nobody has.</param>
/// <param name="VoidAt">
/// The source's table was truncated there: once that is applied, the change counts for nothing. Null when it was not.
/// </param>
/// <param name="Trying">Whether it was being tried again when this was written.</param>
public sealed record WaitingChange(
    TableSchema Schema,
    RowChange Change,
    LogPosition Position,
    int Ordinal,
    DateTimeOffset CommittedAt,
    DateTimeOffset SetAsideAt,
    WaitingState State,
    TableName? Into,
    string Answer,
    int Tries,
    DateTimeOffset? TriedAt,
    string? EditedBy = null,
    LogPosition? VoidAt = null,
    bool Trying = false
)
{
    /// <summary>Unique within a crossing, and the same if the change is met again after a crash.</summary>
    public string Id =>
        FormattableString.Invariant($"{(Position.Branch == 0 ? "" : $"{Position.Branch:x}.")}{Position.Offset:x}-{Ordinal}");

    public TableName Table => Schema.Name;

    /// <summary>The columns by which the row is told from others: its key, or all of it where there is none.</summary>
    public IReadOnlyList<int> KeyOrdinals => KeyOrdinalsOf(Schema);

    /// <summary>The rows that it touches: two where the key moves.</summary>
    public IEnumerable<RowKey> Keys => KeysOf(Schema, Change);

    internal static IReadOnlyList<int> KeyOrdinalsOf(TableSchema form) =>
        form.HasKey ? form.KeyOrdinals : [.. Enumerable.Range(0, form.Columns.Count)];

    internal static IEnumerable<RowKey> KeysOf(TableSchema form, RowChange change)
    {
        var ordinals = KeyOrdinalsOf(form);
        if (!change.Before.IsNone)
        {
            yield return RowKey.Of(change.Before, ordinals);
        }

        if (!change.After.IsNone)
        {
            // Without a key all values tell the row, those too that the log left out since they did not change.
            yield return RowKey.Of(form.HasKey ? change.After : RowMerge.Fill(change.After, change.Before), ordinals);
        }
    }
}
