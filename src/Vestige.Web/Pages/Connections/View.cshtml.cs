using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Demo.Workload;
using Vestige.Engine.Commands;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Undoing;
using Vestige.Web.Api;
using Vestige.Web.Connections;
using Vestige.Web.Hosting;
using Vestige.Web.Views;

namespace Vestige.Web.Pages.Connections;

/// <summary>Can we read and write there, what is missing, what is in it? Where it has them also: its drills and its workload.</summary>
public class ViewModel(
    ConnectionDirectory connections,
    ConnectionChange change,
    ConnectionChecks checks,
    CrossingEngine engine,
    SentForms forms,
    DemoSetup demo
) : PageModel
{
    private const int TablesShown = 200;

    public ConnectionDefinition Connection { get; private set; } = null!;

    /// <summary>Its kind; null where this build has none of that name.</summary>
    public IConnectorKind? Kind => connections.KindOf(Connection.Kind);

    /// <summary>Its drills; null when it has none, and where it cannot be opened, of which the test of the connection tells.</summary>
    public IReadOnlyList<Drill>? Drills { get; private set; }

    /// <summary>Its log at this moment; null where that cannot be said at no cost.</summary>
    public LogGauge? Log { get; private set; }

    /// <summary>Whether statements can be run on it.</summary>
    public bool HasBench => Kind?.Can.Contains(Capability.Bench) == true;

    public IReadOnlyList<ReadinessCheck> Lines { get; private set; } = [];

    /// <summary>Whether what a source needs is shown: crossings read it, or that was asked for.</summary>
    public bool IsSource { get; private set; }

    /// <summary>Whether what a target needs is shown: crossings write it, or that was asked for.</summary>
    public bool IsTarget { get; private set; }

    /// <summary>The roles that it could have and that are not shown.</summary>
    public IEnumerable<string> OtherRoles
    {
        get
        {
            if (!IsSource && connections.Find<ILogSource>(Connection.Name) is not null)
            {
                yield return "source";
            }

            if (!IsTarget && connections.Find<ITarget>(Connection.Name) is not null)
            {
                yield return "target";
            }
        }
    }

    /// <summary>What must hold so that it can be a source.</summary>
    public IReadOnlyList<ReadinessCheck> AsSource { get; private set; } = [];

    /// <summary>What must hold so that it can be a target.</summary>
    public IReadOnlyList<ReadinessCheck> AsTarget { get; private set; } = [];

    /// <summary>What a DBA runs so that it can be a source; null when nothing is needed.</summary>
    public Preparation? SourceScript { get; private set; }

    public Preparation? TargetScript { get; private set; }

    /// <summary>The scripts there are, with a title and what they do.</summary>
    public IEnumerable<(Preparation Script, string Title, string Says)> Scripts
    {
        get
        {
            if (SourceScript is not null)
            {
                yield return (
                    SourceScript,
                    "Preparation as a source",
                    "A DBA runs this so that the role can read the log and every table that can be replicated, whatever the list above "
                        + "shows. Safe to run twice."
                );
            }

            if (TargetScript is not null)
            {
                yield return (
                    TargetScript,
                    "Preparation as a target",
                    "A DBA runs this so that the role can create tables and write to them. Safe to run twice."
                );
            }
        }
    }

    /// <summary>What was looked for among the tables.</summary>
    public string Wanted { get; private set; } = "";

    /// <summary>How many tables were found, shown or not.</summary>
    public int Found { get; private set; }

    /// <summary>Why something could not be read though the connection works; null otherwise.</summary>
    public string? Problem { get; private set; }

    public IReadOnlyList<TableDescription> Tables { get; private set; } = [];

    public IReadOnlyList<string> Users { get; private set; } = [];

    /// <summary>Tables that crossings have dropped here and that can be restored.</summary>
    public IReadOnlyList<UndoEntry> Dropped { get; private set; } = [];

    /// <summary>What it is, in words.</summary>
    public string What =>
        Kind?.Describe(Connection.Settings) ?? $"A connection of the kind '{Connection.Kind}', which this build does not have";

    /// <summary>A position in the notation of its log.</summary>
    public string Shown(LogPosition position) => Core.Text.Figures.Position(connections.Source(Connection.Name).Log.Format(position));

    /// <summary>Why no table is shown.</summary>
    public string NoTables =>
        !Lines.All(line => line.Ok) && !TablesRead ? "The tables cannot be read."
        : connections.Find<ICatalogue>(Connection.Name) is null ? "This system takes changes and has no tables to list."
        : HasBench ? "No tables yet. Create some on the Bench."
        : "There are no tables.";

    private bool TablesRead { get; set; }

    /// <summary>The work on this database; null when there is none.</summary>
    public CirculationWorkload? Workload { get; private set; }

    /// <summary>The page, or its part that is alive.</summary>
    /// <param name="name">The connection.</param>
    /// <param name="part">The part that is asked for; null for the whole.</param>
    /// <param name="find">What to look for among the tables.</param>
    /// <param name="role">A role whose needs are asked for.</param>
    /// <param name="sent">Settings that were tried, by the name under which they are kept; null for none.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task<IActionResult> OnGetAsync(
        string name,
        string? part,
        string? find,
        string? role,
        string? sent,
        CancellationToken cancellation
    )
    {
        if (!Find(name))
        {
            return NotFound();
        }

        if (forms.Find<TriedSettings>(sent, this) is { } tried && tried.Connection == name)
        {
            (Tried, TriedLines, SecretTyped) = (tried.Settings, tried.Checks, tried.SecretTyped);
        }

        Users = ConnectionApi.UsersOf(name, engine);
        Wanted = find ?? "";
        IsSource = role == "source" || engine.Statuses.Any(status => status.Definition.Source == name);
        IsTarget = role == "target" || engine.Statuses.Any(status => status.Definition.Target == name);
        Dropped = await engine.Undo.ListAsync(name, cancellation);
        ReadDrills(name);
        Lines = await checks.TestAsync(name, cancellation);
        try
        {
            await LookInsideAsync(cancellation);
        }
        catch (PortException exception)
        {
            Problem = Lines.All(line => line.Ok) ? $"{exception.Message} {exception.Remedy}" : null;
        }

        return part != "live" ? Page()
            : Log is null ? NotFound()
            : Partial("Connections/_Log", this);
    }

    private async Task LookInsideAsync(CancellationToken cancellation)
    {
        if (!Lines.All(line => line.Ok))
        {
            return;
        }

        AsSource = IsSource && connections.Find<ILogSource>(Connection.Name) is { } log ? await log.CheckSourceAsync([], cancellation) : [];
        AsTarget = IsTarget && connections.Find<ITarget>(Connection.Name) is { } target
            ? await target.CheckTargetAsync([], new Dictionary<TableName, ExistingRows>(), new HashSet<TableName>(), cancellation)
            : [];
        if (connections.Find<ICatalogue>(Connection.Name) is not { } catalogue)
        {
            return;
        }

        var all = await catalogue.ReadTablesAsync(cancellation);
        TablesRead = true;
        var found = all.Where(table => table.Schema.Name.ToString().Contains(Wanted, StringComparison.OrdinalIgnoreCase)).ToList();
        Found = found.Count;
        Tables = [.. found.Take(TablesShown)];
        if (connections.Find<IPreparation>(Connection.Name) is { } preparable)
        {
            SourceScript = IsSource
                ? await preparable.PrepareSourceAsync(
                    [.. all.Where(table => table.Crosses || table.InsertsCross).Select(table => table.Schema.Name)],
                    cancellation
                )
                : null;
            TargetScript = IsTarget ? await preparable.PrepareTargetAsync(cancellation) : null;
        }
    }

    public async Task<IActionResult> OnPostDrillAsync(string name, string? drill, CancellationToken cancellation)
    {
        if (!Find(name) || connections.Find<IDrills>(name) is not { } drills)
        {
            return NotFound();
        }

        try
        {
            var done = await drills.SetAsync(drill ?? "", SettingForm.ValuesIn(Request.Form), cancellation);
            await engine.Events.OfConnectionAsync(name, EventKind.Note, done, Who.Of(HttpContext));
            TempData["Done"] = done;
            return Redirect($"/connections/{name}");
        }
        catch (RequestRefusedException exception)
        {
            return await RefuseAsync(name, $"{exception.Message} {exception.Remedy}");
        }
    }

    public IActionResult OnPostRate(string name, double rate, bool rhythm)
    {
        if (!Find(name) || Workload is null)
        {
            return NotFound();
        }

        Workload.Rate = rate;
        Workload.Rhythm = rhythm;
        TempData["Done"] =
            $"The workload makes up to {Core.Text.Figures.Rate(Workload.Rate)} changes a "
            + $"second{(rhythm ? ", following the library day" : "")}.";
        return Redirect($"/connections/{name}");
    }

    /// <summary>Settings that were tried and wait for a confirmation; null when there are none.</summary>
    public IReadOnlyDictionary<string, string>? Tried { get; private set; }

    /// <summary>What trying them gave.</summary>
    public IReadOnlyList<ReadinessCheck> TriedLines { get; private set; } = [];

    /// <summary>Whether other settings were tested and work.</summary>
    public bool IsTested => TriedLines.Count > 0 && TriedLines.All(line => line.Ok);

    /// <summary>A secret was typed, and is to be typed again, since it is kept nowhere until then.</summary>
    public bool SecretTyped { get; private set; }

    /// <summary>The parts of its secret, as a sentence names them; empty where it has none.</summary>
    public string SecretParts =>
        string.Join(" or ", (Kind?.Fields ?? []).Where(one => one.IsSecret).Select(one => one.Label.ToLowerInvariant()));

    /// <summary>What stands on the form that changes it.</summary>
    public SettingForm Form => new(Kind?.Fields ?? [], Tried ?? Connection.Settings, "change");

    /// <summary>The crossings that use it and run; it is changed under them only when that is confirmed.</summary>
    public IReadOnlyList<string> RunningUsers => ConnectionApi.RunningUsersOf(Connection.Name, engine);

    public async Task<IActionResult> OnPostChangeAsync(string name, bool confirmed, CancellationToken cancellation)
    {
        if (!Find(name) || Kind is not { Fields.Count: > 0 } kind)
        {
            return NotFound();
        }

        var changed = Connection with { Settings = SettingForm.SettingsIn(Request.Form, kind.Fields) };
        var secret = SettingForm.SecretIn(Request.Form, kind.Fields);
        var problems = connections.Check(changed, secret);
        if (problems.Count > 0)
        {
            TempData["Refused"] =
                "Nothing was changed. "
                + $"{string.Join(" ", problems.Select(problem => $"{problem.Field}: {problem.Found}. {problem.Remedy}"))}";
            return Again(new TriedSettings(name, changed.Settings, [], secret is not null));
        }

        if (RunningUsers.Count > 0)
        {
            var tested = await change.TestAsync(changed, secret, cancellation);
            if (!confirmed || tested.Any(line => !line.Ok))
            {
                return Again(new TriedSettings(name, changed.Settings, tested, secret is not null));
            }
        }

        var reconnected = await change.ApplyAsync(changed, secret, Who.Of(HttpContext), cancellation);
        TempData["Done"] =
            reconnected.Count == 0
                ? "Changed. The test on the right used the new settings."
                : $"Changed. {string.Join(", ", reconnected)} paused for it and {(reconnected.Count == 1 ? "continues" : "continue")}.";
        return Redirect($"/connections/{name}");
    }

    public async Task<IActionResult> OnPostRemoveAsync(string name, string? typed, CancellationToken cancellation)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        if (typed != name)
        {
            return await RefuseAsync(name, "Nothing was removed: the name typed is not the connection's name.");
        }

        try
        {
            await engine.AmongDefinitionsAsync(
                () => connections.RemoveAsync(name, ConnectionApi.UsersOf(name, engine), cancellation),
                cancellation
            );
        }
        catch (RequestRefusedException exception)
        {
            return await RefuseAsync(name, $"{exception.Message} {exception.Remedy}");
        }

        TempData["Done"] = $"{name} is removed{(Connection.HasSecret ? ", with its secret" : "")}. {Kind?.Remains}".TrimEnd();
        return Redirect("/connections");
    }

    public Task<IActionResult> OnPostRestoreAsync(string name, string? id, CancellationToken cancellation) =>
        UndoAsync(name, "Restored", () => engine.Undo.RestoreAsync(name, id ?? "", Who.Of(HttpContext), cancellation));

    public Task<IActionResult> OnPostForgetAsync(string name, string? id, string? typed, CancellationToken cancellation) =>
        typed == name
            ? UndoAsync(name, "Dropped for good", () => engine.Undo.DropAsync(name, id ?? "", Who.Of(HttpContext), cancellation))
            : RefuseAsync(name, "Nothing was dropped: the name typed is not the connection's name.");

    private async Task<IActionResult> UndoAsync(string name, string done, Func<Task<UndoEntry>> request)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        try
        {
            var entry = await request();
            TempData["Done"] = $"{done}: {Core.Text.Figures.Listed([.. entry.Tables.Select(table => table.ToString())], 5)}.";
            return Redirect($"/connections/{name}");
        }
        catch (Exception exception) when (exception is RequestRefusedException or PortException)
        {
            var remedy = exception is PortException port ? port.Remedy : ((RequestRefusedException)exception).Remedy;
            return await RefuseAsync(name, $"Nothing was changed. {exception.Message} {remedy}".TrimEnd());
        }
    }

    /// <summary>The page again with the settings that were tried.</summary>
    private RedirectResult Again(TriedSettings tried)
    {
        var kept = forms.Keep(tried, tried.Settings.Values.Sum(value => value.Length));
        return Redirect($"/connections/{tried.Connection}?{SentForms.Field}={kept}#{(tried.Checks.Count > 0 ? "tried" : "change")}");
    }

    private bool Find(string name)
    {
        Connection = connections.Find(name)!;
        if (Connection is null)
        {
            return false;
        }

        Workload = demo.WorkloadOf(name);
        return true;
    }

    private void ReadDrills(string name)
    {
        try
        {
            Drills = connections.Find<IDrills>(name)?.All;
            Log = connections.Find<ILogGauge>(name)?.Read();
        }
        catch (PortException)
        {
            // The test of the connection tells of it.
        }
    }

    private Task<IActionResult> RefuseAsync(string name, string why)
    {
        TempData["Refused"] = why;
        return Task.FromResult<IActionResult>(Redirect($"/connections/{name}"));
    }
}
