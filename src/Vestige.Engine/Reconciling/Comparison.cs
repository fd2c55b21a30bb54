using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Reconciling;

/// <summary>
/// Compares the tables of a crossing, one after the other. Views are kept for some seconds and a part of a large table at a time, so
/// that neither side is kept from tidying up for long.
/// </summary>
internal sealed class Comparison(
    ViewRequest request,
    CrossingTreatment treating,
    ComparisonScope scope,
    ReadingPace pace,
    Func<TableName, Proof?> proofOf,
    TimeProvider clock
)
{
    private const long PartRows = 8_000_000;
    private const int MostParts = 4096;
    private const int Listed = 10_000;
    private static readonly TimeSpan ViewsLast = TimeSpan.FromSeconds(20);
    private IReadOnlyDictionary<TableName, TableHistory> histories = new Dictionary<TableName, TableHistory>();
    private ViewPair? views;
    private Dictionary<TableName, TableDescription> there = [];

    /// <summary>Told what was found of each table, when it was compared.</summary>
    public Func<IReadOnlyList<TableFinding>, Task> Found { get; init; } = _ => Task.CompletedTask;

    /// <summary>Told what was found so far of the table at work, after each of its parts but the last.</summary>
    public Action<IReadOnlyList<TableFinding>> SoFar { get; init; } = _ => { };

    /// <summary>The table at work, and which part of how many.</summary>
    public Action<TableName, int, int> At { get; init; } = (_, _, _) => { };

    public async Task RunAsync(CancellationToken cancellation)
    {
        try
        {
            await OpenAsync(cancellation);
            foreach (var table in Chosen())
            {
                await Found(await CompareAsync(table, cancellation));
            }
        }
        finally
        {
            await CloseAsync();
        }

        await RestAsync(cancellation);
    }

    /// <summary>All is found by now: whoever ends it gives up the rest alone.</summary>
    private async Task RestAsync(CancellationToken cancellation)
    {
        try
        {
            await pace.RestAsync(cancellation);
        }
        catch (OperationCanceledException) when (cancellation.IsCancellationRequested) { }
    }

    private List<TableName> Chosen()
    {
        // What the target has is compared, or said not to be, also where the source has no such table any more.
        var crossing = TakenTables.Of(treating.Definition.Tables, [.. there.Values]).Select(table => table.Schema.Name);
        var known = views?.Progress.Tables.Select(table => table.Table).Where(treating.Definition.Tables.Takes) ?? [];
        return [.. (scope.Tables.Count == 0 ? crossing.Union(known) : scope.Tables).Order()];
    }

    private async Task<IReadOnlyList<TableFinding>> CompareAsync(TableName name, CancellationToken cancellation)
    {
        At(name, 0, 1);
        if (clock.GetUtcNow() - views!.OpenedAt > ViewsLast)
        {
            await OpenAsync(cancellation);
        }

        var into = treating.TargetsOf(name);
        if (Reason(name) is { } reason)
        {
            return [.. into.Select(target => TableFinding.None(name, target, reason))];
        }

        var copied = CopiedOf(name)!;
        var (treatment, problems) = copied.Treating.TryBuild(there[name].Schema);
        if (treatment is null || ComparedTable.Incomparable(treatment) is not null)
        {
            return
            [
                .. into.Select(target =>
                    TableFinding.None(
                        name,
                        target,
                        treatment is null ? $"it cannot be treated: {problems[0].Found}" : ComparedTable.Incomparable(treatment)!
                    )
                ),
            ];
        }

        var tables = ComparedTable.Of(treatment, request.Source.Catalogue.Types, request.Target.Catalogue.Types);
        var found = await CompareAsync(treatment, tables, cancellation);
        return copied.Missing.Count == 0
            ? found
            : [.. found.Select(table => table with { LeftOut = [.. table.LeftOut, .. copied.Missing] })];
    }

    private async Task<IReadOnlyList<TableFinding>> CompareAsync(
        TableTreatment treatment,
        IReadOnlyList<ComparedTable> tables,
        CancellationToken cancellation
    )
    {
        if (scope.Sample is { } rows)
        {
            var drawn = await views!.Source.SampleAsync(treatment.Source, rows, cancellation);
            return await (await ComparerAsync(treatment, tables, 1, cancellation)).RunAsync([], drawn, cancellation);
        }

        return scope.Changed ? await ChangedAsync(treatment, tables, cancellation) : await RowsAsync(treatment, tables, cancellation);
    }

    /// <summary>What the copy has of a table of the source's view; null where that is not what the crossing would make of it.</summary>
    private CopiedColumns? CopiedOf(TableName name) =>
        CopiedColumns.Of(
            treating,
            request.Spool,
            views!.Progress.Tables.FirstOrDefault(table => table.Table == name),
            there[name].Schema
        );

    /// <summary>Why a table cannot be compared now; null when it can.</summary>
    private string? Reason(TableName name)
    {
        var progress = views!.Progress.Tables.FirstOrDefault(table => table.Table == name);
        return progress switch
        {
            { Held: true } => $"it is held: {progress.HeldCause}",
            _ when !there.ContainsKey(name) => "the source has no such table now",
            null or { Loaded: false } => "it is not loaded yet",
            _ when CopiedOf(name) is null =>
                "its columns or its key changed at the source since it was loaded",
            { Reached: not null } => "it was loaded beside the others, and has yet to catch up with them",
            _ when progress.Position > views.Position => "it was loaded ahead of the others, which have yet to catch up",
            _ when views.Source.Position != views.Position
                    && !RetainsWhole(name, LogPosition.Min(views.Source.Position!.Value, views.Position)) =>
                "the log that is kept does not hold all changes of it yet: compare again in a moment",
            _ when histories[name].Broken is { } broken => $"{broken}: compare again",
            _ when histories[name].Changes > LogBetween.MostChanges =>
                $"more than {Figures.Of(LogBetween.MostChanges, "change")} lie between both sides: compare again when it has caught up",
            _ => null,
        };
    }

    /// <summary>
    /// Whether the spool has every change of a table after a position: it may have begun to read it later, or be another process's.
    /// </summary>
    private bool RetainsWhole(TableName name, LogPosition after) => request.Spool.Retained(name)?.WholeAfter is { } whole && whole <= after;

    private async Task<TableComparer> ComparerAsync(
        TableTreatment treatment,
        IReadOnlyList<ComparedTable> tables,
        int parts,
        CancellationToken cancellation
    )
    {
        var touched = await views!.TouchedAsync(treatment.Source, histories[treatment.Source.Name], cancellation);
        var rows = there[treatment.Source.Name].EstimatedRows;
        return new TableComparer(treatment, tables, views.Source, views.Target, touched, views.Position, clock, Listed)
        {
            // A table that is not cut into parts, or of unknown size, has to rest within its views.
            Read = (read, resting) =>
            {
                pace.Count(read);
                return rows > 0 && rows / parts <= 2 * pace.RowsInOneGo ? Task.CompletedTask : pace.RestAsync(resting);
            },
            EstimatedRows = rows,
            SegmentsReported = Math.Max(1, SegmentReport.Most / parts),
        };
    }

    private async Task<IReadOnlyList<TableFinding>> RowsAsync(
        TableTreatment treatment,
        IReadOnlyList<ComparedTable> tables,
        CancellationToken cancellation
    )
    {
        var name = treatment.Source.Name;
        if (!Within(treatment, tables, out var within))
        {
            return
            [
                .. tables.Select(table =>
                    TableFinding.None(name, table.Name, "a range needs integer keys that are replicated unchanged")
                ),
            ];
        }

        var rows = there[name].EstimatedRows;
        var parts = (int)Math.Clamp(rows / (pace.RowsInOneGo ?? PartRows), 1, MostParts);
        var bounds =
            parts > 1 && tables.All(table => table.ByRange)
                ? await views!.Source.CutAsync(treatment.Source, within, parts, cancellation)
                : [];
        var cut = Segments.ByRange(bounds);
        var form = treatment.Source;
        IReadOnlyList<TableFinding> found = [];
        for (var part = 0; part < cut.Count; part++)
        {
            At(name, part, cut.Count);
            if (part > 0)
            {
                if (pace.RowsInOneGo is not null || clock.GetUtcNow() - views!.OpenedAt > ViewsLast)
                {
                    await OpenAsync(cancellation);
                }

                if (Reason(name) is { } reason || !there[name].Schema.SameForm(form))
                {
                    return
                    [
                        .. tables.Select(table =>
                            TableFinding.None(name, table.Name, Reason(name) ?? "its form changed meanwhile: compare again")
                        ),
                    ];
                }
            }

            var comparer = await ComparerAsync(treatment, tables, cut.Count, cancellation);
            var next = await comparer.RunAsync(cut.SpanOf(part, within), rows / cut.Count, cancellation);
            pace.Count(comparer.RowsRead);
            found = part == 0 ? next : [.. found.Zip(next, Together)];
            if (part + 1 < cut.Count)
            {
                SoFar([.. found.Select(table => WithOpen(table, cut, part + 1, within, rows / cut.Count))]);
            }
        }

        return found;
    }

    /// <summary>A table of which parts are yet to be compared.</summary>
    private static TableFinding WithOpen(TableFinding table, Segments cut, int next, KeySpan within, long rows) =>
        table with
        {
            Reason = $"part {Figures.Count(next + 1)} of {Figures.Count(cut.Count)} is being compared",
            Segments =
            [
                .. table.Segments,
                .. Enumerable
                    .Range(next, cut.Count - next)
                    .Select(part => new SegmentFinding(
                        SegmentReport.Bound(cut, part, within, first: true),
                        SegmentReport.Bound(cut, part, within, first: false),
                        rows,
                        SegmentState.Open,
                        table.Position!.Value,
                        0
                    )),
            ],
        };

    private bool Within(TableTreatment treatment, IReadOnlyList<ComparedTable> tables, out KeySpan within)
    {
        within = KeySpan.All;
        if (scope.From is null && scope.Before is null)
        {
            return true;
        }

        var columns = treatment.Source.KeyOrdinals.Count;
        within = new KeySpan(
            scope.From is { } from ? IntegerKeys.Parse(from, columns) : default,
            scope.Before is { } before ? IntegerKeys.Parse(before, columns) : default
        );
        return tables.All(table => table.ByRange)
            && (scope.From is null || !within.From.IsNone)
            && (scope.Before is null || !within.Before.IsNone);
    }

    /// <summary>What did not change since the last proof is as it was then, unless others than this crossing write on the target.</summary>
    private async Task<IReadOnlyList<TableFinding>> ChangedAsync(
        TableTreatment treatment,
        IReadOnlyList<ComparedTable> tables,
        CancellationToken cancellation
    )
    {
        var form = treatment.Source;
        IReadOnlyList<TableFinding> None(string reason) => [.. tables.Select(table => TableFinding.None(form.Name, table.Name, reason))];
        if (proofOf(form.Name) is not { } proof)
        {
            return None("it was never proved equal, or rows of it were found to differ or repaired since: compare all of its rows first");
        }

        if (tables is not [{ KeyPasses: true }])
        {
            return None(
                "its rows have no key that they share with the target's, so that single ones cannot be picked: compare all of them"
            );
        }

        if (proof.Position < request.Spool.Begin || !RetainsWhole(form.Name, proof.Position))
        {
            return None("the log that is kept begins after the last proof: compare all of its rows");
        }

        var upTo = LogPosition.Max(views!.Source.Position!.Value, views.Position);
        var since = (
            await LogBetween.ReadAsync(
                request.Spool,
                proof.Position,
                upTo,
                new Dictionary<TableName, TableSchema> { [form.Name] = form },
                cancellation
            )
        )[form.Name];
        if (since.Broken is { } broken || since.Changes > LogBetween.MostChanges)
        {
            return None($"{since.Broken ?? "too much changed since the last proof"}: compare all of its rows");
        }

        var found = since.Keys.Count == 0 ? [] : await views.Source.FindAsync(form, since.Keys, cancellation);
        var comparer = await ComparerAsync(treatment, tables, 1, cancellation);
        return await comparer.RunAsync(since.Keys, found, cancellation);
    }

    private static TableFinding Together(TableFinding soFar, TableFinding next)
    {
        List<RowDifference> rows = [.. soFar.Rows, .. next.Rows.Select(row => row with { Segment = row.Segment + soFar.Segments.Count })];
        return soFar with
        {
            Position = LogPosition.Min(soFar.Position!.Value, next.Position!.Value),
            At = next.At,
            SourceRows = soFar.SourceRows + next.SourceRows,
            TargetRows = soFar.TargetRows + next.TargetRows,
            Same = soFar.Same + next.Same,
            Missing = soFar.Missing + next.Missing,
            Extra = soFar.Extra + next.Extra,
            Differing = soFar.Differing + next.Differing,
            InFlight = soFar.InFlight + next.InFlight,
            Reason = soFar.Reason ?? next.Reason,
            Segments = [.. soFar.Segments, .. next.Segments],
            Rows = [.. rows.Take(Listed)],
            NotListed = soFar.NotListed || next.NotListed || rows.Count > Listed,
        };
    }

    private async Task OpenAsync(CancellationToken cancellation)
    {
        await CloseAsync();
        await pace.RestAsync(cancellation);
        views = await ViewPair.OpenAsync(request, clock.GetUtcNow(), cancellation);
        there = (await views.Source.ReadTablesAsync(cancellation)).ToDictionary(table => table.Schema.Name);
        var chosen = Chosen().Where(there.ContainsKey).ToDictionary(name => name, name => there[name].Schema);
        histories = await views.HistoryAsync(chosen, cancellation);
    }

    private async Task CloseAsync()
    {
        if (views is { } open)
        {
            views = null;
            await open.DisposeAsync();
        }
    }
}
