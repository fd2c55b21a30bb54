using System.Security.Cryptography;
using System.Text;
using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Core.Crossings;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Rewinding;
using Vestige.Web.Api;
using Vestige.Web.Connections;
using Vestige.Web.Definitions;
using Vestige.Web.Views;

namespace Vestige.Web.Pages.Crossings;

/// <summary>Takes a definition from a file, says where it is wrong, and keeps it as a draft.</summary>
public class ImportModel(CrossingEngine engine, ConnectionDirectory connections, SentForms forms) : PageModel
{
    private const int MostBytes = 4 << 20;
    private static readonly TimeSpan TriedBack = TimeSpan.FromHours(24);

    public string Text { get; private set; } = "";

    public IReadOnlyList<LocatedProblem> Problems { get; private set; } = [];

    public CrossingPlan? Plan { get; private set; }

    /// <summary>What the definition means for the crossing of its name that was started; null when there is none.</summary>
    public DefinitionChange? Change { get; private set; }

    /// <summary>What it would have made of the past; null where that was not asked.</summary>
    public PastTrial? Trial { get; private set; }

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

    /// <summary>The page, or what was sent and what it would do.</summary>
    /// <param name="from">A crossing to begin with; null for none.</param>
    /// <param name="change">A crossing to change; null for none.</param>
    /// <param name="sent">What was sent, by the name under which it is kept; null when nothing was.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task<IActionResult> OnGetAsync(string? from, string? change, string? sent, CancellationToken cancellation)
    {
        if (forms.Find<SentDefinition>(sent, this) is { } kept)
        {
            Changing = StartedOf(change);
            await ShowSentAsync(kept, cancellation);
            return Page();
        }

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
        bool past,
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
            return Again($"{file.FileName} has {file.Length} bytes; at most {MostBytes} are read.");
        }

        if (file is { Length: > 0 })
        {
            using var reader = new StreamReader(file.OpenReadStream(), Encoding.UTF8);
            Text = await reader.ReadToEndAsync(cancellation);
        }

        if (!keep)
        {
            return Again(failure: null, past);
        }

        var read = DefinitionYaml.Read(Text);
        if (ProblemsIn(read).Count > 0)
        {
            return Again(failure: null);
        }

        try
        {
            return await KeepAsync(read.Definition!, seen, typedName, cancellation) ?? Again(failure: null);
        }
        catch (NotReadyException exception)
        {
            return Again(exception.Message);
        }
        catch (RequestRefusedException exception)
        {
            return Again($"{exception.Message} {exception.Remedy}");
        }
        catch (PortException exception)
        {
            return Again($"{exception.Message} {exception.Remedy}");
        }
    }

    /// <summary>The page again, with what was sent and why it was not taken.</summary>
    private RedirectResult Again(string? failure, bool past = false)
    {
        var name = forms.Keep(new SentDefinition(Text, failure, past), Text.Length);
        var change = Changing is null ? "" : $"&change={Uri.EscapeDataString(Changing)}";
        return Redirect($"/crossings/import?{SentForms.Field}={name}{change}");
    }

    /// <summary>Null, and nothing is kept, where the consequences have not been seen or agreed to.</summary>
    private async Task<IActionResult?> KeepAsync(
        CrossingDefinition definition,
        string? seen,
        string? typedName,
        CancellationToken cancellation
    )
    {
        if (engine.Status(definition.Name) is not { State: not CrossingState.Draft })
        {
            await engine.DefineAsync(definition, Who.Of(HttpContext), cancellation);
            TempData["Done"] = "Saved as a draft. Nothing has been read or written.";
            return Redirect($"/crossings/{definition.Name}/definition");
        }

        if (
            seen != Mark
            || (
                typedName != definition.Name
                && (await engine.CompareAsync(definition, cancellation)).Losses.Count > 0
            )
        )
        {
            return null;
        }

        await engine.ChangeAsync(definition, Who.Of(HttpContext), cancellation, typedName);
        TempData["Done"] = "The change is applied.";
        return Redirect($"/crossings/{definition.Name}");
    }

    /// <summary>What was sent, with what is wrong with it or what it would do.</summary>
    private async Task ShowSentAsync(SentDefinition sent, CancellationToken cancellation)
    {
        (Text, Failure) = (sent.Text, sent.Failure);
        if (Failure is not null)
        {
            return;
        }

        var read = DefinitionYaml.Read(Text);
        Problems = ProblemsIn(read);
        if (Problems.Count > 0)
        {
            return;
        }

        try
        {
            await ShowEffectAsync(read, sent.Past, cancellation);
        }
        catch (RequestRefusedException exception)
        {
            Failure = $"{exception.Message} {exception.Remedy}";
        }
        catch (PortException exception)
        {
            Failure = $"{exception.Message} {exception.Remedy}";
        }
    }

    private async Task ShowEffectAsync(ReadDefinition read, bool past, CancellationToken cancellation)
    {
        var definition = read.Definition!;
        if (engine.Status(definition.Name) is { State: not CrossingState.Draft } started)
        {
            Change = await engine.CompareAsync(definition, cancellation);
            Compared = DefinitionComparison.Of(started.Definition, definition);
            Trial = past ? await engine.Past.TryAsync(definition, TriedBack, cancellation) : null;
            Problems = [.. Change.Problems.DistinctBy(problem => (problem.Field, problem.Found)).Select(read.Placed)];
            return;
        }

        Plan = await engine.PlanAsync(definition, cancellation);
        Problems = [.. Plan.Problems.DistinctBy(problem => (problem.Field, problem.Found)).Select(read.Placed)];
    }

    private IReadOnlyList<LocatedProblem> ProblemsIn(ReadDefinition read) =>
        read.Definition is { } definition ? [.. CrossingApi.Check(definition, connections).Select(read.Placed)] : read.Problems;

    private string? StartedOf(string? crossing) =>
        crossing is not null && engine.Status(crossing) is { State: not CrossingState.Draft } ? crossing : null;

    private string Another(string name)
    {
        var stem = name.Length > DefinitionRules.LongestName - 8 ? name[..(DefinitionRules.LongestName - 8)] : name;
        return Enumerable.Range(2, int.MaxValue - 2).Select(i => $"{stem}-{i}").First(candidate => engine.Status(candidate) is null);
    }
}
