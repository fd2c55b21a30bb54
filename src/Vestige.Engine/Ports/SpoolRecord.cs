namespace Vestige.Engine.Ports;

/// <summary>One record of a spool file. Only the body is encrypted.</summary>
/// <param name="Sequence">1, 2, 3 ... within the file.</param>
/// <param name="Kind">What it holds.</param>
/// <param name="Number">
/// For data: the offset of the last transaction in it, on the branch of the file. For relations: the relation's number.
/// </param>
/// <param name="Complete">For data: whether it ends a transaction. Others: true.</param>
/// <param name="Transactions">For data: how many transactions the spool had taken at its end, since it began.</param>
/// <param name="Changes">The same for changes.</param>
/// <param name="Body">The content.</param>
public sealed record SpoolRecord(
    long Sequence,
    SpoolRecordKind Kind,
    ulong Number,
    bool Complete,
    long Transactions,
    long Changes,
    ReadOnlyMemory<byte> Body
)
{
    /// <summary>For data: which keys it may hold changes of, encrypted like the body; empty where that was not noted.</summary>
    public ReadOnlyMemory<byte> Filter { get; init; }
}
