using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Crossings;
using Vestige.Core.Treatments;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Web.Connections;
using Vestige.Web.Treating;

namespace Vestige.Web.Pages.Crossings;

/// <summary>What happens to a row on the way: the steps of a table, and some of its rows before and after.</summary>
public class TreatmentModel(
    CrossingEngine engine,
    ConnectionDirectory connections,
    Catalogues catalogues,
    RowSamples samples,
    TimeProvider clock
) : CrossingPage(engine, connections, clock)
{
    public override string View => "treatment";

    /// <summary>The tables to choose from.</summary>
    public IReadOnlyList<string> Tables { get; private set; } = [];

    public string? Table { get; private set; }

    /// <summary>The steps with their numbers, and whether each is for the table.</summary>
    public IReadOnlyList<(int Number, TreatmentStep Step, bool IsFor)> Steps { get; private set; } = [];

    public BeforeAfter? Sample { get; private set; }

    public TableTreatment? Treatment { get; private set; }

    /// <summary>Why rows cannot be shown; null when they can.</summary>
    public string? Problem { get; private set; }

    public async Task<IActionResult> OnGetAsync(string name, string? table, CancellationToken cancellation)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        try
        {
            await LookAsync(table, cancellation);
        }
        catch (PortException exception)
        {
            Problem = $"{exception.Message} {exception.Remedy}";
        }

        return Page();
    }

    private async Task LookAsync(string? table, CancellationToken cancellation)
    {
        var definition = Status.Definition;
        var there = await catalogues.OfAsync(definition.Source, anew: false, cancellation);
        var crossing = there.Where(candidate => definition.Tables.Takes(candidate.Schema.Name)).ToList();
        var steps = definition.Treatment ?? [];
        var chosen = crossing.FirstOrDefault(candidate => candidate.Schema.Name.ToString() == table)
            ?? steps
                .Select(step => crossing.FirstOrDefault(candidate => TablePattern.Matches(step.Tables, candidate.Schema.Name.ToString())))
                .FirstOrDefault(candidate => candidate is not null)
            ?? crossing.FirstOrDefault();
        Tables = [.. crossing.Select(candidate => candidate.Schema.Name.ToString())];
        Table = chosen?.Schema.Name.ToString();
        Steps = [.. steps.Select((step, i) => (i + 1, step, Table is not null && TablePattern.Matches(step.Tables, Table)))];
        if (chosen is null)
        {
            return;
        }

        var (treatment, problems) = Engine.TreatmentOf(definition).TryBuild(chosen.Schema);
        Problem = problems.Count > 0 ? $"{problems[0].Found}. {problems[0].Remedy}" : null;
        if (treatment is not null)
        {
            Treatment = treatment;
            Sample = await samples.OfAsync(definition.Source, treatment, [], cancellation);
        }
    }
}
