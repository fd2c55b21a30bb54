using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Core.Crossings;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Supervision;
using Vestige.Web.Api;
using Vestige.Web.Connections;
using Vestige.Web.Views;

namespace Vestige.Web.Pages.Crossings;

/// <summary>What exactly will happen if I start this? Choices at the left, the consequence at the right.</summary>
public class NewModel(CrossingEngine engine, ConnectionDirectory connections) : PageModel
{
    [BindProperty(SupportsGet = true)]
    public string? Name { get; set; }

    [BindProperty(SupportsGet = true)]
    public string? Source { get; set; }

    [BindProperty(SupportsGet = true)]
    public string? Target { get; set; }

    [BindProperty(SupportsGet = true)]
    public List<string> Tables { get; set; } = [];

    [BindProperty(SupportsGet = true)]
    public ExistingRows Existing { get; set; }

    /// <summary>Patterns of tables of which only inserts are wanted, with commas between.</summary>
    [BindProperty(SupportsGet = true)]
    public string? InsertOnly { get; set; }

    public IReadOnlyList<ConnectionDefinition> All => connections.All;

    public IReadOnlyList<TableDescription> There { get; private set; } = [];

    public IReadOnlyList<DefinitionProblem> Problems { get; private set; } = [];

    public CrossingPlan? Plan { get; private set; }

    /// <summary>Why the source's tables or the plan cannot be shown; null when they can.</summary>
    public string? Failure { get; private set; }

    /// <summary>Problems are shown once a person has said something.</summary>
    public bool Touched { get; private set; }

    public async Task<IActionResult> OnGetAsync(string? part, CancellationToken cancellation)
    {
        Touched = part is not null || Request.Query.ContainsKey("show");
        await ShowAsync(cancellation);
        return part switch
        {
            "consequence" => Partial("Crossings/_Consequence", this),
            "tables" => Partial("Crossings/_PickTables", this),
            _ => Page(),
        };
    }

    public async Task<IActionResult> OnPostAsync(bool start, CancellationToken cancellation)
    {
        Touched = true;
        await ShowAsync(cancellation);
        if (Problems.Count > 0 || Failure is not null || (start && Plan?.Ready != true))
        {
            return Page();
        }

        var definition = Definition();
        await engine.DefineAsync(definition, Who.Of(HttpContext), cancellation);
        try
        {
            if (start)
            {
                await engine.RunAsync(definition.Name, Who.Of(HttpContext), cancellation);
            }

            TempData["Done"] = start ? "Started." : "Kept as a draft. Nothing has been read or written.";
        }
        catch (Exception exception) when (exception is NotReadyException or RequestRefusedException or PortException)
        {
            TempData["Refused"] = exception.Message;
        }

        return Redirect($"/crossings/{definition.Name}");
    }

    private async Task ShowAsync(CancellationToken cancellation)
    {
        Source ??= All.Count > 0 ? All[0].Name : null;
        Target ??= All.Count > 1 ? All[1].Name : null;
        try
        {
            if (Source is not null && connections.Find(Source) is not null)
            {
                There = await connections.Source(Source).ReadTablesAsync(cancellation);
            }

            var definition = Definition();
            Problems = [.. CrossingApi.Check(definition, connections).Concat(NameTaken())];
            if (Problems.All(problem => problem.Field == "name"))
            {
                Plan = await engine.PlanAsync(definition with { Name = string.IsNullOrEmpty(Name) ? "new" : Name }, cancellation);
            }
        }
        catch (PortException exception)
        {
            Failure = $"{exception.Message} {exception.Mend}";
        }
    }

    private IEnumerable<DefinitionProblem> NameTaken() => !string.IsNullOrEmpty(Name) && engine.Status(Name) is not null
        ? [new DefinitionProblem("name", $"there is a crossing {Name} already", "Choose another name.")]
        : [];

    /// <summary>Whether a table can cross as it would be applied.</summary>
    public bool Crosses(TableDescription table)
    {
        ArgumentNullException.ThrowIfNull(table);
        return table.CrossesAs(Definition([]).AppliedAs(table.Schema.Name));
    }

    /// <summary>All tables chosen become one rule with a star for each schema; else one rule a table.</summary>
    private CrossingDefinition Definition()
    {
        var crossing = There.Where(Crosses).Select(table => table.Schema.Name.ToString()).ToHashSet();
        var schemas = There.Where(Crosses).Select(table => table.Schema.Name.Schema).Distinct();
        var chosen = Tables.Distinct().ToList();
        return Definition(chosen.Count > 0 && crossing.SetEquals(chosen)
            ? [.. schemas.Select(schema => new TableRule(Take: $"{schema}.*")), .. There.Where(table => !Crosses(table)).Select(table => new TableRule(Leave: table.Schema.Name.ToString()))]
            : [.. chosen.Select(table => new TableRule(Take: table))]);
    }

    private CrossingDefinition Definition(IReadOnlyList<TableRule> rules)
    {
        var patterns = (InsertOnly ?? "").Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries);
        return new CrossingDefinition(
            Name ?? "",
            CrossingDefinition.Copy,
            Source ?? "",
            Target ?? "",
            new TableRules(rules),
            new StartOptions(Existing),
            patterns.Length == 0 ? null : [.. patterns.Select(pattern => new ApplyRule(pattern, ApplyMode.InsertOnly))]);
    }
}
