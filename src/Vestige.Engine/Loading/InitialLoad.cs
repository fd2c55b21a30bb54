using Vestige.Core.Loading;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Loading;

/// <summary>
/// Copies the rows of some tables as of one position. Each table is marked as loaded, with that position, when its rows are
/// written and its keys are built; an interrupted load begins the tables again that were not marked, from a snapshot of its
/// own.
/// </summary>
internal sealed class InitialLoad(ISource source, ITarget target, ITargetSession session, bool emptyExisting, TimeProvider clock)
{
    private const int Readers = 2;

    /// <summary>The tables being loaded, once the snapshot is open.</summary>
    public IReadOnlyList<TableLoad> Tables { get; private set; } = [];

    public DateTimeOffset? StartedAt { get; private set; }

    public LogPosition Position { get; private set; }

    /// <summary>Loads the tables and returns the position they are at.</summary>
    public async Task<LogPosition> RunAsync(IReadOnlyList<TableName> names, LogIdentity identity, bool first, CancellationToken cancellation)
    {
        await using var snapshot = await source.OpenSnapshotAsync(Readers, cancellation);
        Position = snapshot.Position;
        var forms = await FormsAsync(snapshot, names, cancellation);
        var chunks = new List<LoadChunk>();
        var loads = new List<TableLoad>();
        foreach (var form in forms)
        {
            var ranges = await snapshot.CutAsync(form.Schema, ChunkCount.For(form.EstimatedRows), cancellation);
            var load = new TableLoad(form.Schema, form.EstimatedRows, ranges.Count);
            loads.Add(load);
            chunks.AddRange(ranges.Select(range => new LoadChunk(load, range, Math.Max(1.0, (double)form.EstimatedRows / ranges.Count))));
        }

        await CheckAsync(forms, cancellation);
        StartedAt = clock.GetUtcNow();
        Tables = loads;
        await PrepareAsync(forms, identity, first, cancellation);
        await new ChunkCopy(snapshot, target, session, Readers).RunAsync(chunks, cancellation);
        return Position;
    }

    private static async Task<List<TableDescription>> FormsAsync(ISourceSnapshot snapshot, IReadOnlyList<TableName> names, CancellationToken cancellation)
    {
        var there = (await snapshot.ReadTablesAsync(cancellation)).ToDictionary(table => table.Schema.Name);
        var forms = new List<TableDescription>();
        foreach (var name in names)
        {
            if (!there.TryGetValue(name, out var form) || !form.Crosses)
            {
                throw new PortException(form is null ? $"The source has no table {name}." : $"{name} cannot cross: {form.Reason}")
                {
                    Mend = "Change the table at the source, or take it out of the crossing.",
                };
            }

            forms.Add(form);
        }

        return forms;
    }

    /// <summary>
    /// A table that the target does not know as this crossing's own is checked once more before it is emptied: the target may
    /// be another one than at the start, or somebody may have removed the progress from it.
    /// </summary>
    private async Task CheckAsync(List<TableDescription> forms, CancellationToken cancellation)
    {
        var begun = session.Progress.Tables.Select(progress => progress.Table).ToHashSet();
        var fresh = forms.Select(form => form.Schema).Where(form => !begun.Contains(form.Name)).ToList();
        if (fresh.Count == 0)
        {
            return;
        }

        var lines = await target.CheckTargetAsync(fresh, emptyExisting, begun, cancellation);
        if (lines.FirstOrDefault(line => !line.Ok) is { } wrong)
        {
            throw new PortException($"The target knows nothing of a load by this crossing, and {wrong.Step} does not hold: {wrong.Found}. Nothing was changed there.") { Mend = wrong.Mend };
        }
    }

    /// <summary>Makes the tables empty and of the source's form, and writes down that they are begun.</summary>
    private async Task PrepareAsync(List<TableDescription> forms, LogIdentity identity, bool first, CancellationToken cancellation)
    {
        var begun = session.Progress.Tables.Select(progress => progress.Table).ToHashSet();
        await using var transaction = await session.BeginAsync(checkReferences: false, cancellation);
        await transaction.CreateTablesAsync([.. forms.Select(form => form.Schema).Where(form => !begun.Contains(form.Name))], replace: false, cancellation);
        await transaction.CreateTablesAsync([.. forms.Select(form => form.Schema).Where(form => begun.Contains(form.Name))], replace: true, cancellation);
        foreach (var form in forms)
        {
            await transaction.EmptyAsync(form.Schema, cancellation);
        }

        var tables = forms.Select(form => new TableProgress(form.Schema.Name, Loaded: false, LogPosition.Zero)).ToList();
        await transaction.CommitAsync(new ProgressUpdate(null, tables, identity, Restart: first), cancellation);
    }
}
