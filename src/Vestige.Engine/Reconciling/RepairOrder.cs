using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Reconciling;

/// <summary>What a worker is asked to repair once it stands at or after the position of a view of the source.</summary>
/// <param name="View">The view.</param>
/// <param name="Rows">
/// Which rows; where <see cref="RepairedRow.After"/> is to be written as it was kept, <paramref name="Undo"/> is set.
/// </param>
/// <param name="Undo">The rows are put back as they were before a repair, where they are still as it left them.</param>
internal sealed record RepairOrder(IRowsView View, IReadOnlyList<RowToRepair> Rows, bool Undo)
{
    /// <summary>The columns of the target that are written where a row is there; null for all.</summary>
    public IReadOnlySet<string>? Columns { get; init; }

    private readonly TaskCompletionSource<(LogPosition Position, IReadOnlyList<RepairedRow> Rows)> done = new(
        TaskCreationOptions.RunContinuationsAsynchronously
    );

    public LogPosition From => View.Position!.Value;

    public Task<(LogPosition Position, IReadOnlyList<RepairedRow> Rows)> Done => done.Task;

    public void End(LogPosition position, IReadOnlyList<RepairedRow> rows) => done.TrySetResult((position, rows));

    public void Fail(Exception exception) => done.TrySetException(exception);
}
