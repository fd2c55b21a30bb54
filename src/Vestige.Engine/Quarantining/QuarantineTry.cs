using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Expressions;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Core.Treatments;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Quarantining;

/// <summary>
/// Tries what a person asked to have tried again, and what waits behind a change that is not there any more, in the order of the
/// log for each row. Each change is a transaction of the target by itself.
/// </summary>
internal sealed class QuarantineTry(Quarantine quarantine, CrossingTreatment treating, EventLog events, TimeProvider clock)
{
    private long seen = -1;

    /// <summary>Whether anything may be to be tried: something was decided since all of it was looked through.</summary>
    public bool IsDue => !quarantine.IsEmpty && quarantine.Decisions != seen;

    /// <summary>Tries all that is due. True when something does not wait any more.</summary>
    public async Task<bool> RunAsync(ITargetSession session, CancellationToken cancellation)
    {
        var (applied, refused) = (0, 0);
        var forms = new Dictionary<TableSchema, TableTreatment>();
        var stuck = new HashSet<(TableName Table, RowKey Key)>();
        seen = quarantine.Decisions;
        foreach (var change in quarantine.All.Select(quarantine.Find).OfType<WaitingChange>())
        {
            // As it is now: a person may have edited or dropped it meanwhile. Before it nothing of its rows may wait.
            var keys = change.Keys.Select(key => (change.Table, key)).ToList();
            var due = change.State is WaitingState.Asked or WaitingState.Behind && !keys.Exists(stuck.Contains);
            if (due && await TryAsync(session, change, forms, cancellation))
            {
                applied++;
                continue;
            }

            refused += due ? 1 : 0;
            stuck.UnionWith(keys);
        }

        if (applied + refused > 0)
        {
            var kind = refused > 0 ? EventKind.Warning : EventKind.Note;
            await events.OfCrossingAsync(
                treating.Definition.Name,
                kind,
                $"Quarantine: {Figures.Of(applied, "change")} applied{(refused > 0 ? $", {refused} refused again" : "")}."
            );
        }

        return applied > 0;
    }

    private async Task<bool> TryAsync(
        ITargetSession session,
        WaitingChange change,
        Dictionary<TableSchema, TableTreatment> forms,
        CancellationToken cancellation
    )
    {
        TableName? into = null;
        try
        {
            if (!forms.TryGetValue(change.Schema, out var treatment))
            {
                forms.Add(change.Schema, treatment = treating.Build(change.Schema));
            }

            if (!IsRepeatable(change, treatment))
            {
                await quarantine.ChangeAsync([change.Id], one => one with { Trying = true }, cancellation);
            }

            var made = Treated(treatment, change);
            await using var transaction = await session.BeginAsync(ChecksReferences(session, change), cancellation);
            foreach (var (table, one) in made)
            {
                into = table.Schema.Name;
                await transaction.ApplyAsync(table.Schema, one, cancellation);
            }

            await transaction.CommitAsync(ProgressUpdate.None, cancellation);
        }
        catch (Exception exception) when (exception is RowRefusedException or EvaluationException)
        {
            await RefusedAsync(change, into, exception is RowRefusedException refusal ? refusal.Answer : exception.Message, cancellation);
            return false;
        }
        catch (PortException exception) when (!exception.Transient && exception is not FencedException)
        {
            // The table has another form now, or cannot be treated: the change stays, with the reason.
            await RefusedAsync(change, into, exception.Message, cancellation);
            return false;
        }

        await quarantine.DropAsync([change.Id], cancellation);
        return true;
    }

    /// <summary>
    /// What is made of a change. An update of a row that could not be treated as it was before, and so is not on the target, puts the
    /// whole row there.
    /// </summary>
    private static List<TreatedChange> Treated(TableTreatment treatment, WaitingChange waiting)
    {
        var (change, made) = (waiting.Change, new List<TreatedChange>());
        try
        {
            treatment.Treat(change, waiting.CommittedAt, made);
        }
        catch (EvaluationException)
            when (change.Kind == ChangeKind.Update && treatment.Mode == ApplyMode.Upsert && waiting.Keys.Distinct().Count() == 1)
        {
            made.Clear();
            treatment.Treat(
                change with
                {
                    Kind = ChangeKind.Insert,
                    Before = default,
                    After = RowMerge.Fill(change.After, change.Before),
                },
                waiting.CommittedAt,
                made
            );
        }

        return made;
    }

    private Task RefusedAsync(WaitingChange change, TableName? into, string answer, CancellationToken cancellation) =>
        quarantine.ChangeAsync(
            [change.Id],
            one =>
                one with
                {
                    State = WaitingState.Refused,
                    Into = into,
                    Answer = answer,
                    Tries = one.Tries + 1,
                    TriedAt = clock.GetUtcNow(),
                    Trying = false,
                },
            cancellation
        );

    /// <summary>Found by its key, a row written twice is the same; one without a key, or a version, would be there twice.</summary>
    private static bool IsRepeatable(WaitingChange change, TableTreatment treatment) =>
        change.Schema.HasKey && treatment.Mode != ApplyMode.KeepVersions;

    /// <summary>A row that it refers to may wait as well.</summary>
    private bool ChecksReferences(ITargetSession session, WaitingChange change) =>
        !quarantine.All.Any(other => other.Table != change.Table)
        && session.Progress.Tables.All(table =>
            !table.Held
            && table.IsInStream
            && table.Position <= session.Progress.Position
            && treating.Definition.AppliedAs(table.Table) != ApplyMode.InsertOnly
        );
}
