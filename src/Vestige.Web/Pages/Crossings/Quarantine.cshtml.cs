using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Crossings;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Quarantining;
using Vestige.Web.Connections;
using Vestige.Web.Quarantining;

namespace Vestige.Web.Pages.Crossings;

/// <summary>What was refused, why, and what becomes of it.</summary>
public class QuarantineModel(CrossingEngine engine, ConnectionDirectory connections, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    /// <summary>So many changes of one cause are listed.</summary>
    public const int ListedPerCause = 20;

    private const int ListedDecisions = 20;

    public override string View => "quarantine";

    public IReadOnlyList<WaitingChange> Waiting { get; private set; } = [];

    public IReadOnlyList<IGrouping<string, WaitingChange>> Causes { get; private set; } = [];

    /// <summary>What was dropped or edited lately, the latest first.</summary>
    public IReadOnlyList<DecidedChange> Decided { get; private set; } = [];

    /// <summary>The change that is looked at; null for none.</summary>
    public WaitingView? Chosen { get; private set; }

    public IReadOnlyList<(string Into, string Statement, IReadOnlyList<(string Column, string Value)> Values)> Written
    {
        get;
        private set;
    } = [];

    public bool Runs =>
        Status.State is CrossingState.Checking or CrossingState.Loading or CrossingState.CatchingUp or CrossingState.Following;

    /// <summary>A change as it is shown.</summary>
    public WaitingView ViewOf(WaitingChange change) => new(change, Engine.TreatmentOf(Status.Definition));

    public async Task<IActionResult> OnGetAsync(string name, string? id, CancellationToken cancellation)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        Waiting = Engine.Quarantine.Waiting(name) ?? [];
        Causes = WaitingGroup.ByCause(Waiting);
        Decided = await Engine.Quarantine.DecidedAsync(name, ListedDecisions, cancellation) ?? [];
        if (Waiting.FirstOrDefault(change => change.Id == id) is { } chosen)
        {
            Chosen = ViewOf(chosen);
            Written = Chosen.Written(Connections.Target(Status.Definition.Target));
        }

        return Page();
    }

    public Task<IActionResult> OnPostRetryAsync(string name, string id, bool like, CancellationToken cancellation) =>
        TryAsync(
            name,
            async () =>
            {
                var ids = IdsOf(name, id, like);
                await Engine.Quarantine.RetryAsync(name, ids, By, cancellation);
                return ids;
            },
            cancellation
        );

    public Task<IActionResult> OnPostDropAsync(string name, string id, bool like, string? reason, CancellationToken cancellation) =>
        DecideAsync(name, "Dropped. Vestige tries the changes that waited behind it.", () =>
            Engine.Quarantine.DropAsync(name, IdsOf(name, id, like), reason ?? "", By, cancellation)
        );

    public Task<IActionResult> OnPostEditAsync(string name, string id, CancellationToken cancellation) =>
        TryAsync(
            name,
            async () =>
            {
                await Engine.Quarantine.EditAsync(name, id, Edited(name, id), By, cancellation);
                return [id];
            },
            cancellation
        );

    public Task<IActionResult> OnPostRuleAsync(string name, bool aside, int? rows, decimal? percent, CancellationToken cancellation) =>
        DecideAsync(name, "Saved.", () =>
            Engine.Quarantine.SetRuleAsync(name, aside ? new QuarantineRule(rows, percent) : null, By, cancellation)
        );

    /// <summary>Asks for another try, and says what came of it; while the crossing rests, that it is scheduled.</summary>
    private async Task<IActionResult> TryAsync(string name, Func<Task<string[]>> ask, CancellationToken cancellation)
    {
        var done = "Retry scheduled for when the crossing resumes.";
        var result = await DoAsync(
            $"/crossings/{name}/quarantine",
            done,
            async () =>
            {
                var ids = await ask();
                if (Find(name) && Runs)
                {
                    var waiting = () => Engine.Quarantine.Waiting(name) ?? [];
                    done = (await RetryOutcome.WaitAsync(ids, waiting, Clock, cancellation)).Words;
                }
            }
        );
        if (TempData.ContainsKey("Done"))
        {
            TempData["Done"] = done;
        }

        return result;
    }

    private Task<IActionResult> DecideAsync(string name, string done, Func<Task> decide) =>
        DoAsync($"/crossings/{name}/quarantine", done, decide);

    private string[] IdsOf(string name, string id, bool like) =>
        like ? [.. WaitingGroup.Like(Engine.Quarantine.Waiting(name) ?? [], id).Select(change => change.Id)] : [id];

    /// <summary>What was typed that is not what was shown.</summary>
    private Dictionary<string, string?> Edited(string name, string id)
    {
        if (!Find(name) || Engine.Quarantine.Waiting(name)?.FirstOrDefault(change => change.Id == id) is not { } change)
        {
            throw new RequestRefusedException("The change does not wait any more.") { Remedy = "Look at what waits now." };
        }

        var edited = new Dictionary<string, string?>();
        foreach (var value in ViewOf(change).Values.Where(value => value.Editable))
        {
            var typed = Request.Form[$"value:{value.Column}"].FirstOrDefault();
            var toNull = Request.Form.ContainsKey($"null:{value.Column}");
            if (
                toNull
                    ? !value.IsNull
                    : typed is not null && (value.Masked || value.IsNull ? typed.Length > 0 : typed != (value.After ?? ""))
            )
            {
                edited[value.Column] = toNull ? null : typed;
            }
        }

        return edited;
    }
}
