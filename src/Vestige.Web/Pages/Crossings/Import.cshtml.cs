using System.Security.Cryptography;
using System.Text;
using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Core.Crossings;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
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

    public IReadOnlyList<LocatedProblem> Problems { get; private set; } = [];

    public CrossingPlan? Plan { get; private set; }

    /// <summary>What the definition means for the crossing of its name that was started; null when there is none.</summary>
    public DefinitionChange? Change { get; private set; }

    /// <summary>The lines that change; empty when there is no such crossing.</summary>
    public IReadOnlyList<ComparedLine> Compared { get; private set; } = [];

    /// <summary>The crossing whose change was begun with; null when it is a new one.</summary>
    public string? Changing { get; private set; }

    /// <summary>Why the plan cannot be shown or the draft not kept; null when nothing is in the way.</summary>
    public string? Failure { get; private set; }

    /// <summary>Tells whether what is taken is what was shown.</summary>
    public string Mark => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(Text)));

    /// <summary>A line of the text, by its number from 1; null when there is none.</summary>
    public string? LineAt(int number) => Text.Split('\n').ElementAtOrDefault(number - 1)?.TrimEnd('\r').Replace('\t', ' ');

    public IActionResult OnGet(string? from, string? change)
    {
        if (from is null && change is null)
        {
            return Page();
        }

        if (engine.Status((change ?? from)!) is not { } status)
        {
            return NotFound();
        }

        Changing = StartedOf(change);
        Text = DefinitionYaml.Write(
            change is not null || status.State == CrossingState.Draft ? status.Definition : status.Definition with { Name = Another(from!) }
        );
        return Page();
    }

    public async Task<IActionResult> OnPostAsync(
        string? text,
        IFormFile? file,
        bool keep,
        string? seen,
        string? typedName,
        string? change,
        CancellationToken cancellation
    )
    {
        Changing = StartedOf(change);
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
        Problems = read.Definition is { } definition ? [.. CrossingApi.Check(definition, connections).Select(read.Placed)] : read.Problems;
        return Problems.Count > 0 ? Page() : await TakeAsync(read, keep, seen, typedName, cancellation);
    }

    private async Task<IActionResult> TakeAsync(
        ReadDefinition read,
        bool keep,
        string? seen,
        string? typedName,
        CancellationToken cancellation
    )
    {
        var definition = read.Definition!;
        try
        {
            if (engine.Status(definition.Name) is { State: not CrossingState.Draft } started)
            {
                return await TakeChangeAsync(read, started.Definition, keep && seen == Mark, typedName, cancellation);
            }

            if (keep)
            {
                await engine.DefineAsync(definition, Who.Of(HttpContext), cancellation);
                TempData["Done"] = "Kept as a draft. Nothing has been read or written.";
                return Redirect($"/crossings/{definition.Name}/definition");
            }

            Plan = await engine.PlanAsync(definition, cancellation);
            Problems = [.. Plan.Problems.DistinctBy(problem => (problem.Field, problem.Found)).Select(read.Placed)];
        }
        catch (NotReadyException exception)
        {
            Failure = exception.Message;
        }
        catch (RequestRefusedException exception)
        {
            Failure = $"{exception.Message} {exception.Remedy}";
        }
        catch (PortException exception)
        {
            Failure = $"{exception.Message} {exception.Remedy}";
        }

        return Page();
    }

    private async Task<IActionResult> TakeChangeAsync(
        ReadDefinition read,
        CrossingDefinition before,
        bool keep,
        string? typedName,
        CancellationToken cancellation
    )
    {
        var definition = read.Definition!;
        if (
            keep
            && (
                typedName == definition.Name
                || !(await engine.CompareAsync(definition, cancellation)).Checks.Any(line => line.Loses is not null)
            )
        )
        {
            await engine.ChangeAsync(definition, Who.Of(HttpContext), cancellation, typedName);
            TempData["Done"] = "The change is taken.";
            return Redirect($"/crossings/{definition.Name}");
        }

        Change = await engine.CompareAsync(definition, cancellation);
        Compared = DefinitionComparison.Of(before, definition);
        Problems = [.. Change.Problems.DistinctBy(problem => (problem.Field, problem.Found)).Select(read.Placed)];
        return Page();
    }

    private string? StartedOf(string? crossing) =>
        crossing is not null && engine.Status(crossing) is { State: not CrossingState.Draft } ? crossing : null;

    private string Another(string name)
    {
        var stem = name.Length > DefinitionRules.LongestName - 8 ? name[..(DefinitionRules.LongestName - 8)] : name;
        return Enumerable.Range(2, int.MaxValue - 2).Select(i => $"{stem}-{i}").First(candidate => engine.Status(candidate) is null);
    }
}
