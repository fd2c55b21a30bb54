using Microsoft.Extensions.Logging;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Workers;

/// <summary>Builds the references among loaded tables, once all of them stand together.</summary>
internal sealed class ConstraintBuilder(ITargetSession session, WorkerContext context, TableSync sync)
{
    private static readonly TimeSpan TryAgain = TimeSpan.FromSeconds(10);
    private DateTimeOffset again;

    /// <summary>
    /// Beside the stream. The source is asked for them once more; where it cannot be reached, what the spool holds is applied all the
    /// same, and they are tried again.
    /// </summary>
    public async Task BesideAsync(CancellationToken cancellation)
    {
        if (context.Clock.GetUtcNow() < again || !sync.IsToSettle(session.Progress, session.Progress.Position!.Value))
        {
            return;
        }

        IReadOnlyList<TableDescription> forms;
        try
        {
            forms = await sync.FormsAsync(cancellation);
        }
        catch (PortException exception) when (exception.Transient)
        {
            again = context.Clock.GetUtcNow() + TryAgain;
            context.Logger.LogWarning(exception, "The references of {Crossing} cannot be built yet", context.Crossing);
            return;
        }

        await BuildAsync(forms, cancellation);
    }

    /// <summary>Where the rows come once, at the position at which all tables are together.</summary>
    public async Task TogetherAsync(CancellationToken cancellation)
    {
        if (sync.IsToSettle(session.Progress, sync.Together(session.Progress)))
        {
            await BuildAsync(await sync.FormsAsync(cancellation), cancellation);
        }
    }

    /// <summary>Builds the references that are still missing, and writes down that they are there.</summary>
    private async Task BuildAsync(IReadOnlyList<TableDescription> forms, CancellationToken cancellation)
    {
        var mine = sync.Standing(session.Progress);
        if (forms.Count > 0)
        {
            var names = mine.Select(table => table.Table).ToHashSet();
            List<TableTreatment> treatments =
            [
                .. forms.Where(table => names.Contains(table.Schema.Name)).Select(table => context.Treating.Build(table.Schema)),
            ];
            await session.BuildReferencesAsync(context.Target.Tables.StructureOf(treatments).Tables, cancellation);
        }

        await session.SaveAsync(
            new ProgressUpdate(null, [.. mine.Where(table => !table.Settled).Select(table => table with { Settled = true })]),
            cancellation
        );
        context.State.Take(session.Progress);
    }
}
