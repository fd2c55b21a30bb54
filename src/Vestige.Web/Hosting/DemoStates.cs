using Vestige.Core.Crossings;
using Vestige.Core.Headlines;
using Vestige.Core.Treatments;
using Vestige.Demo.Catalogue;
using Vestige.Demo.Circulation;
using Vestige.Engine.Commands;
using Vestige.Engine.Measuring;
using Vestige.Engine.Reconciling;

namespace Vestige.Web.Hosting;

/// <summary>
/// Brings crossings of the demo into states that one meets at work: masked, stopped at a mark, with two changes in quarantine, and with
/// rows that differ. Each step looks first whether it was done, so that an interrupted one is done at the next start.
/// </summary>
/// <param name="engine">The crossings.</param>
/// <param name="run">Runs statements on a database of the demo, in one transaction.</param>
internal sealed class DemoStates(CrossingEngine engine, Func<string, string[], CancellationToken, Task> run)
{
    private const string By = "demo";
    private const string Masked = "patrons-masked";
    private const string Stopped = "catalogue-to-depot";
    private const string Quarantined = "titles-to-desk";
    private const string Differing = "subjects-to-archive";
    private static readonly TimeSpan Patience = TimeSpan.FromMinutes(2);
    private static readonly TimeSpan Glance = TimeSpan.FromMilliseconds(200);

    /// <summary>The databases that it needs beside those of the demo's first crossings.</summary>
    public static IReadOnlyList<string> Targets { get; } = ["analysis", "depot", "desk", "archive"];

    /// <summary>Makes what is missing. Throws <see cref="TimeoutException"/> where a crossing does not come to where it should.</summary>
    public async Task MakeAsync(CancellationToken cancellation)
    {
        foreach (var definition in Definitions.Where(definition => engine.Status(definition.Name) is null))
        {
            await engine.DefineAsync(definition, By, cancellation);
        }

        foreach (var name in new[] { Masked, Stopped, Quarantined, Differing }.Where(name => StateOf(name) == CrossingState.Draft))
        {
            await engine.RunAsync(name, By, cancellation);
        }

        await QuarantineAsync(cancellation);
        await DifferAsync(cancellation);
        if (StateOf(Stopped) != CrossingState.Stopped)
        {
            await UntilAsync(Stopped, status => status.State == CrossingState.Following, cancellation);
            await engine.StopAtAsync(Stopped, null, By, cancellation);
        }
    }

    private static IEnumerable<CrossingDefinition> Definitions =>
        [
            new(Masked, CrossingDefinition.Copy, CirculationSchema.Name, "analysis", Rules("branch", "patron_category", "patron"))
            {
                Treatment =
                [
                    new TreatmentStep(
                        $"{CirculationSchema.Name}.patron",
                        Mask:
                        [
                            new MaskedColumn("card", MaskMethod.Hash),
                            new MaskedColumn("full_name", MaskMethod.Pseudonym, Kind: PseudonymKind.Name),
                            new MaskedColumn("email", MaskMethod.Pseudonym, Kind: PseudonymKind.Email),
                            new MaskedColumn("address", MaskMethod.Fixed, Value: "withheld"),
                        ]
                    ),
                ],
                Tags = ["analysis"],
            },
            new(Stopped, CrossingDefinition.Copy, CatalogueSeed.Name, "depot", new TableRules([new TableRule(Take: "catalogue.*")]))
            {
                Tags = ["branches"],
            },
            new(Quarantined, CrossingDefinition.Copy, CatalogueSeed.Name, "desk", new TableRules([new TableRule(Take: "catalogue.*")]))
            {
                Quarantine = new QuarantineRule(Rows: 50),
                Tags = ["branches"],
            },
            new(
                Differing,
                CrossingDefinition.Copy,
                CatalogueSeed.Name,
                "archive",
                new TableRules([new TableRule(Take: "catalogue.subject")])
            ),
        ];

    /// <summary>The desk takes no year after 2100, and two such titles come.</summary>
    private async Task QuarantineAsync(CancellationToken cancellation)
    {
        if (engine.Status(Quarantined) is { Quarantined: > 0 })
        {
            return;
        }

        await UntilAsync(Quarantined, status => status.State == CrossingState.Following, cancellation);
        await run(
            "desk",
            [
                "CREATE TRIGGER IF NOT EXISTS year_check BEFORE INSERT ON title WHEN NEW.year > 2100 "
                    + "BEGIN SELECT RAISE(ABORT, 'the year lies in the future'); END",
            ],
            cancellation
        );
        await run(
            CatalogueSeed.Name,
            [
                "INSERT OR IGNORE INTO title VALUES (9001, 'The Drowned Ledger', 7, 3, 2203)",
                "INSERT OR IGNORE INTO title VALUES (9002, 'A Map of Small Harbours', 12, 5, 2210)",
            ],
            cancellation
        );
        await UntilAsync(Quarantined, status => status.Quarantined == 2, cancellation);
    }

    /// <summary>Someone wrote to the archive, and a comparison finds it.</summary>
    private async Task DifferAsync(CancellationToken cancellation)
    {
        if (engine.Status(Differing) is { Differences: > 0 })
        {
            return;
        }

        await UntilAsync(Differing, status => status.State == CrossingState.Following, cancellation);
        await run("archive", ["UPDATE subject SET shelf = 'attic' WHERE id IN (3, 7)", "DELETE FROM subject WHERE id = 11"], cancellation);
        await engine.Reconcile.StartAsync(Differing, ComparisonScope.All, By, cancellation);
        await UntilAsync(Differing, status => status.Headline.Word == HeadlineWord.Differs, cancellation);
    }

    private CrossingState? StateOf(string crossing) => engine.Status(crossing)?.State;

    private async Task UntilAsync(string crossing, Func<CrossingStatus, bool> holds, CancellationToken cancellation)
    {
        var until = DateTimeOffset.UtcNow + Patience;
        while (engine.Status(crossing) is not { } status || !holds(status))
        {
            if (DateTimeOffset.UtcNow > until)
            {
                throw new TimeoutException($"{crossing} is {StateOf(crossing)} after {Patience.TotalMinutes} min.");
            }

            await Task.Delay(Glance, cancellation);
        }
    }

    private static TableRules Rules(params string[] tables) =>
        new([.. tables.Select(table => new TableRule(Take: $"{CirculationSchema.Name}.{table}"))]);
}
