using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>What statements typed by a person did.</summary>
/// <param name="Columns">Column names of the last statement that returned rows; empty when none did.</param>
/// <param name="Rows">Its rows as shown, as many as the bench shows.</param>
/// <param name="More">There were more rows.</param>
/// <param name="Changed">Rows changed by all statements, cascades included.</param>
/// <param name="Changes">The first of those changes.</param>
/// <param name="Position">The position of the transaction; null when nothing was changed.</param>
/// <param name="Took">How long it took.</param>
public sealed record BenchResult(
    IReadOnlyList<string> Columns,
    IReadOnlyList<IReadOnlyList<string>> Rows,
    bool More,
    long Changed,
    IReadOnlyList<BenchChange> Changes,
    LogPosition? Position,
    TimeSpan Took
);
