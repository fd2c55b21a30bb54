using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>From where and for what a log is to be read, and what is known here of its past.</summary>
/// <param name="After">Where to go on.</param>
/// <param name="Tables">The tables whose changes are wanted.</param>
/// <param name="Before">Those of them that were read until now: if the source no longer offers one, changes of it are lost.</param>
/// <param name="Known">Forms that were given before, by number; a number stands for the same form for ever.</param>
/// <param name="Notes">The reader's own notes as last made durable, by name; see <see cref="LogRead.Notes"/>.</param>
public sealed record LogRequest(
    LogPosition After,
    IReadOnlySet<TableName> Tables,
    IReadOnlySet<TableName> Before,
    IReadOnlyDictionary<int, TableSchema> Known,
    IReadOnlyDictionary<string, string> Notes
)
{
    /// <summary>
    /// The log of <see cref="After"/>; null where the caller does not know it. A source that has another one by the time it is read, as
    /// when its connection was led to another system just now, throws a transient <see cref="Faults.PortException"/>, for the same offset
    /// means something else there.
    /// </summary>
    public LogIdentity? Log { get; init; }

    /// <summary>A first reading, with nothing known.</summary>
    public static LogRequest First(LogPosition after, IReadOnlySet<TableName> tables) =>
        new(after, tables, new HashSet<TableName>(), new Dictionary<int, TableSchema>(), new Dictionary<string, string>());
}
