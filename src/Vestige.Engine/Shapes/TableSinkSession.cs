using Vestige.Core.Positions;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Shapes;

/// <summary>
/// How far a crossing into a table sink is: of each table as the sink has it, of the crossing as Vestige keeps it.
///
/// Invariants:
/// 1. Each table is at or beyond the crossing's position: its progress is written with its rows, the crossing's after all of them.
/// 2. So after a failure changes are read again from the crossing's position, and a table passes over those that it has, by its own.
/// 3. All tables that were begun are kept in one step before any is written at the sink, since a crossing continues with what it has begun;
///    what the sink says of a table comes before what is kept of it.
/// </summary>
internal sealed class TableSinkSession : IProgressSession
{
    private readonly IProgressSession kept;

    public TableSinkSession(IProgressSession kept, ITableWriter writer)
    {
        (this.kept, Writer) = (kept, writer);
        Progress = Together(kept.Progress, writer.Tables);
    }

    /// <summary>What is kept of a crossing, and what the sink says of its tables.</summary>
    public static TargetProgress Together(TargetProgress kept, IReadOnlyList<TableProgress> tables)
    {
        ArgumentNullException.ThrowIfNull(kept);
        return kept.With(new ProgressUpdate(null, tables));
    }

    public ITableWriter Writer { get; }

    public TargetProgress Progress { get; private set; }

    public void Match(IReadOnlyList<LogBranch> branches)
    {
        kept.Match(branches);
        Progress = Progress.Match(branches);
    }

    public async Task SaveAsync(ProgressUpdate update, CancellationToken cancellation)
    {
        if (update.Position is null)
        {
            await kept.SaveAsync(update, cancellation);
        }

        foreach (var table in update.Tables)
        {
            await Writer.SaveAsync(table, cancellation);
            Wrote(table);
        }

        if (update.Position is not null)
        {
            await kept.SaveAsync(update, cancellation);
        }

        Progress = Progress.With(update);
    }

    /// <summary>The sink has written this with rows of the table.</summary>
    public void Wrote(TableProgress table) => Progress = Progress.With(new ProgressUpdate(null, [table]));

    public async ValueTask DisposeAsync()
    {
        await Writer.DisposeAsync();
        await kept.DisposeAsync();
    }
}
