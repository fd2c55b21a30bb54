using System.Text;
using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Core.Crossings;
using Vestige.Engine.Faults;
using Vestige.Engine.Supervision;
using Vestige.Web.Api;
using Vestige.Web.Connections;
using Vestige.Web.Definitions;
using Vestige.Web.Views;

namespace Vestige.Web.Pages.Crossings;

/// <summary>Takes a definition from a file, says where it is wrong, and keeps it as a draft.</summary>
public class ImportModel(CrossingEngine engine, ConnectionDirectory connections) : PageModel
{
    private const int MostBytes = 4 << 20;

    public string Text { get; private set; } = "";

    public IReadOnlyList<PlacedProblem> Problems { get; private set; } = [];

    public CrossingPlan? Plan { get; private set; }

    /// <summary>Why the plan cannot be shown or the draft not kept; null when nothing is in the way.</summary>
    public string? Failure { get; private set; }

    /// <summary>A line of the text, by its number from 1; null when there is none.</summary>
    public string? LineAt(int number) => Text.Split('\n').ElementAtOrDefault(number - 1)?.TrimEnd('\r').Replace('\t', ' ');

    public IActionResult OnGet(string? from)
    {
        if (from is null)
        {
            return Page();
        }

        if (engine.Status(from) is not { } status)
        {
            return NotFound();
        }

        Text = DefinitionYaml.Write(status.State == CrossingState.Draft ? status.Definition : status.Definition with { Name = Another(from) });
        return Page();
    }

    public async Task<IActionResult> OnPostAsync(string? text, IFormFile? file, bool keep, CancellationToken cancellation)
    {
        Text = (text ?? "").Replace("\r\n", "\n", StringComparison.Ordinal);
        if (file is { Length: > MostBytes })
        {
            Failure = $"{file.FileName} has {file.Length} bytes; at most {MostBytes} are read.";
            return Page();
        }

        if (file is { Length: > 0 })
        {
            using var reader = new StreamReader(file.OpenReadStream(), Encoding.UTF8);
            Text = await reader.ReadToEndAsync(cancellation);
        }

        var read = DefinitionYaml.Read(Text);
        Problems = read.Definition is { } definition
            ? [.. CrossingApi.Check(definition, connections).Concat(Taken(definition)).Select(read.Placed)]
            : read.Problems;
        return Problems.Count > 0 ? Page() : await TakeAsync(read.Definition!, keep, cancellation);
    }

    private async Task<IActionResult> TakeAsync(CrossingDefinition definition, bool keep, CancellationToken cancellation)
    {
        try
        {
            if (keep)
            {
                await engine.DefineAsync(definition, Who.Of(HttpContext), cancellation);
                TempData["Done"] = "Kept as a draft. Nothing has been read or written.";
                return Redirect($"/crossings/{definition.Name}/definition");
            }

            Plan = await engine.PlanAsync(definition, cancellation);
        }
        catch (RequestRefusedException exception)
        {
            Failure = $"{exception.Message} {exception.Mend}";
        }
        catch (PortException exception)
        {
            Failure = $"{exception.Message} {exception.Mend}";
        }

        return Page();
    }

    private IEnumerable<DefinitionProblem> Taken(CrossingDefinition definition) =>
        engine.Status(definition.Name) is { State: not CrossingState.Draft }
            ? [new DefinitionProblem("name", $"{definition.Name} was started already and cannot be changed", "Choose another name.")]
            : [];

    private string Another(string name)
    {
        var stem = name.Length > DefinitionRules.LongestName - 8 ? name[..(DefinitionRules.LongestName - 8)] : name;
        return Enumerable.Range(2, int.MaxValue - 2).Select(i => $"{stem}-{i}").First(candidate => engine.Status(candidate) is null);
    }
}
