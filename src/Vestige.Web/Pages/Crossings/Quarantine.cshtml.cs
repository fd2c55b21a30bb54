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
        DecideAsync(name, "It is tried again as soon as the crossing runs.", () =>
            Engine.Quarantine.RetryAsync(name, IdsOf(name, id, like), By, cancellation)
        );

    public Task<IActionResult> OnPostDropAsync(string name, string id, bool like, string? reason, CancellationToken cancellation) =>
        DecideAsync(name, "Dropped. What waits behind it is tried.", () =>
            Engine.Quarantine.DropAsync(name, IdsOf(name, id, like), reason ?? "", By, cancellation)
        );

    public Task<IActionResult> OnPostEditAsync(string name, string id, CancellationToken cancellation) =>
        DecideAsync(name, "The row is edited, and tried again as soon as the crossing runs.", () =>
            Engine.Quarantine.EditAsync(name, id, Edited(name, id), By, cancellation)
        );

    public Task<IActionResult> OnPostRuleAsync(string name, bool aside, int? rows, decimal? percent, CancellationToken cancellation) =>
        DecideAsync(name, "The rule is in force.", () =>
            Engine.Quarantine.SetRuleAsync(name, aside ? new QuarantineRule(rows, percent) : null, By, cancellation)
        );

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
