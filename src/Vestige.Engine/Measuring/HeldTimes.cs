using Vestige.Core.Schemas;

namespace Vestige.Engine.Measuring;

/// <summary>
/// Since when tables of one crossing are held: since they were first seen to be; of those that were at the first look of this process,
/// since the event that reported it. Safe for several threads.
/// </summary>
internal sealed class HeldTimes
{
    private readonly Lock gate = new();
    private Dictionary<TableName, DateTimeOffset?>? known;

    /// <summary>Since when each of the tables is held that are held now; null of one where that is not known.</summary>
    /// <param name="held">All tables that are held now.</param>
    /// <param name="now">The moment.</param>
    /// <param name="reported">When the latest event reported one; asked at the first look only.</param>
    public IReadOnlyDictionary<TableName, DateTimeOffset?> Look(
        IEnumerable<TableName> held,
        DateTimeOffset now,
        Func<TableName, DateTimeOffset?> reported
    )
    {
        lock (gate)
        {
            var before = known;
            return known = held.ToDictionary(
                table => table,
                table =>
                    before is null ? reported(table)
                    : before.TryGetValue(table, out var since) ? since
                    : now
            );
        }
    }

    /// <summary>How the event begins that reports a table being held.</summary>
    public static string TextOf(TableName table) => $"{table} is held. ";
}
