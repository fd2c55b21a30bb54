using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Log;

/// <summary>What partitioned tables were made of at one moment.</summary>
/// <param name="Head">Everything that shows in it was committed before this place of the log.</param>
/// <param name="At">The server's time at which that was the end of the log.</param>
/// <param name="Horizon">Transactions before this one had ended when it began.</param>
/// <param name="Wholes">By table: what lies below it, by identifier.</param>
internal sealed record PartTreesSeen(
    LogPosition Head,
    DateTimeOffset At,
    long Horizon,
    IReadOnlyDictionary<TableName, Dictionary<uint, PartTreesSeen.Node>> Wholes
)
{
    /// <param name="Part">Its name and file.</param>
    /// <param name="Writer">The transaction that wrote its catalogue entry last: the one that gave it its file, or a later one.</param>
    /// <param name="BroughtRows">Whether rows may have come with it when it became a part; false for one that was known before.</param>
    /// <param name="Survived">Whether rows of before stand in a file that is new: it was not emptied.</param>
    internal sealed record Node(PartNode Part, uint Writer, bool BroughtRows, bool Survived = false);
}
