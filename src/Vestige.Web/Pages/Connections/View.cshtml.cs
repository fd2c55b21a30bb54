using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Connectors.StandIn;
using Vestige.Connectors.StandIn.Drills;
using Vestige.Core.Crossings;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Demo.Workload;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Supervision;
using Vestige.Web.Api;
using Vestige.Web.Connections;
using Vestige.Web.Hosting;
using Vestige.Web.Views;

namespace Vestige.Web.Pages.Connections;

/// <summary>Can we read and write there, what is missing, what is in it? For a stand-in also: its drills and its workload.</summary>
public class ViewModel(ConnectionDirectory connections, ConnectionChange change, CrossingEngine engine, DemoSetup demo) : PageModel
{
    private const int TablesShown = 200;

    public ConnectionDefinition Connection { get; private set; } = null!;

    /// <summary>Null when the connection is of another kind.</summary>
    public StandInDatabase? StandIn { get; private set; }

    public IReadOnlyList<ReadinessLine> Lines { get; private set; } = [];

    /// <summary>What must hold so that it can be a source.</summary>
    public IReadOnlyList<ReadinessLine> AsSource { get; private set; } = [];

    /// <summary>What must hold so that it can be a target.</summary>
    public IReadOnlyList<ReadinessLine> AsTarget { get; private set; } = [];

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
                yield return (SourceScript, "Preparation as a source", "What a DBA runs so that the role of this connection can read the log and every table that can cross, whatever the list above is narrowed to. Safe to run twice.");
            }

            if (TargetScript is not null)
            {
                yield return (TargetScript, "Preparation as a target", "What a DBA runs so that the role can make tables and write them. Safe to run twice.");
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

    /// <summary>What it is, in words.</summary>
    public string What => IsStandIn
        ? "A stand-in"
        : $"{Connection.Settings.GetValueOrDefault("database")} on a PostgreSQL server at {Connection.Settings.GetValueOrDefault("host")}";

    /// <summary>Why no table is shown.</summary>
    public string NoTables => !Lines.All(line => line.Ok) && !TablesRead
        ? "The tables cannot be read."
        : IsStandIn ? "No table yet. Make some on the Bench." : "There is no table.";

    public bool IsStandIn => Connection.Kind == ConnectionDefinition.StandIn;

    private bool TablesRead { get; set; }

    /// <summary>The work on this database; null when there is none.</summary>
    public CirculationWorkload? Workload { get; private set; }

    public async Task<IActionResult> OnGetAsync(string name, string? part, string? find, CancellationToken cancellation)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        Users = ConnectionApi.UsersOf(name, engine);
        var source = connections.Source(name);
        Wanted = find ?? "";
        Lines = await source.TestAsync(cancellation);
        try
        {
            await LookInsideAsync(source, cancellation);
        }
        catch (PortException exception)
        {
            Problem = Lines.All(line => line.Ok) ? $"{exception.Message} {exception.Remedy}" : null;
        }

        return part == "live" ? Partial("Connections/_Log", this) : Page();
    }

    private async Task LookInsideAsync(ISource source, CancellationToken cancellation)
    {
        if (!Lines.All(line => line.Ok))
        {
            return;
        }

        AsSource = await source.CheckSourceAsync([], cancellation);
        AsTarget = await connections.Target(Connection.Name).CheckTargetAsync([], new Dictionary<TableName, ExistingRows>(), new HashSet<TableName>(), cancellation);
        var all = await source.ReadTablesAsync(cancellation);
        TablesRead = true;
        var found = all.Where(table => table.Schema.Name.ToString().Contains(Wanted, StringComparison.OrdinalIgnoreCase)).ToList();
        Found = found.Count;
        Tables = [.. found.Take(TablesShown)];
        if (connections.Preparable(Connection.Name) is { } preparable)
        {
            SourceScript = await preparable.PrepareSourceAsync([.. all.Where(table => table.Crosses || table.InsertsCross).Select(table => table.Schema.Name)], cancellation);
            TargetScript = await preparable.PrepareTargetAsync(cancellation);
        }
    }

    public Task<IActionResult> OnPostLineAsync(string name, bool cut) =>
        DrillAsync(name, drills => drills.LineCut = cut, cut ? "The line is cut (drill)." : "The line is mended.");

    public Task<IActionResult> OnPostReaderAsync(string name, bool stop) =>
        DrillAsync(name, drills => drills.ReaderStopped = stop, stop ? "The log reader is stopped (drill)." : "The log can be read again.");

    public Task<IActionResult> OnPostDelayAsync(string name, int milliseconds) => milliseconds is < 0 or > 10_000
        ? RefuseAsync(name, $"A delay of {milliseconds} ms cannot be set. Use 0 to 10 000.")
        : DrillAsync(name, drills => drills.Delay = TimeSpan.FromMilliseconds(milliseconds), milliseconds == 0 ? "Calls are not delayed any more." : $"Each call is delayed by {milliseconds} ms (drill).");

    public async Task<IActionResult> OnPostRefuseAsync(string name, string? table, string? key, CancellationToken cancellation)
    {
        if (!Find(name) || StandIn is null)
        {
            return NotFound();
        }

        var there = await Unhindered(name, cancellation);
        var known = there.FirstOrDefault(candidate => candidate.Schema.Name.Name == table || candidate.Schema.Name.ToString() == table);
        if (known is null || string.IsNullOrEmpty(key))
        {
            return await RefuseAsync(name, known is null ? $"There is no table {table} in {name}." : "Give the key of the row to refuse.");
        }

        var row = new RefusedRow(known.Schema.Name.Name, key);
        return await DrillAsync(name, drills => drills.Refuse(row), $"Row {key} of {known.Schema.Name} is refused (drill).");
    }

    public Task<IActionResult> OnPostAllowAsync(string name, string table, string key) =>
        DrillAsync(name, drills => drills.Allow(new RefusedRow(table, key)), $"Row {key} of {table} is taken again.");

    public async Task<IActionResult> OnPostFillAsync(string name, CancellationToken cancellation)
    {
        if (!Find(name) || StandIn is null)
        {
            return NotFound();
        }

        await StandIn.FillLogAsync(cancellation);
        return await DrillAsync(name, _ => { }, "The log was filled to its limit; the oldest of it is dropped (drill).");
    }

    public IActionResult OnPostRate(string name, double rate, bool rhythm)
    {
        if (!Find(name) || Workload is null)
        {
            return NotFound();
        }

        Workload.Rate = rate;
        Workload.Rhythm = rhythm;
        TempData["Done"] = $"The workload makes up to {Core.Text.Figures.Rate(Workload.Rate)} changes a second{(rhythm ? ", following the library day" : "")}.";
        return Redirect($"/connections/{name}");
    }

    /// <summary>Settings that were tried and wait for a confirmation; null when there are none.</summary>
    public IReadOnlyDictionary<string, string>? Tried { get; private set; }

    /// <summary>What trying them gave.</summary>
    public IReadOnlyList<ReadinessLine> TriedLines { get; private set; } = [];

    /// <summary>A password was typed, and is to be typed again, since it is kept nowhere until then.</summary>
    public bool PasswordTyped { get; private set; }

    /// <summary>The crossings that use it and run; it is changed under them only when that is confirmed.</summary>
    public IReadOnlyList<string> RunningUsers => ConnectionApi.RunningUsersOf(Connection.Name, engine);

    public async Task<IActionResult> OnPostChangeAsync(string name, string? password, bool confirmed, CancellationToken cancellation)
    {
        if (!Find(name) || StandIn is not null)
        {
            return NotFound();
        }

        var changed = Connection with { Settings = IndexModel.SettingsIn(Request.Form) };
        var problems = connections.Check(changed, string.IsNullOrEmpty(password) ? null : ConnectionBody.SecretOf(password));
        if (problems.Count > 0)
        {
            return await RefuseAsync(name, $"Nothing was changed. {string.Join(" ", problems.Select(problem => $"{problem.Field}: {problem.Found}. {problem.Remedy}"))}");
        }

        var secret = string.IsNullOrEmpty(password) ? null : ConnectionBody.SecretOf(password);
        if (RunningUsers.Count > 0)
        {
            TriedLines = await change.TestAsync(changed, secret, cancellation);
            if (!confirmed || TriedLines.Any(line => !line.Ok))
            {
                (Tried, PasswordTyped) = (changed.Settings, secret is not null);
                return await OnGetAsync(name, null, null, cancellation);
            }
        }

        var reconnected = await change.ApplyAsync(changed, secret, Who.Of(HttpContext), cancellation);
        TempData["Done"] = reconnected.Count == 0
            ? "Changed. The test at the right is of the new settings."
            : $"Changed. {string.Join(", ", reconnected)} paused for it and {(reconnected.Count == 1 ? "goes" : "go")} on.";
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
            return await RefuseAsync(name, "Nothing was done: the name typed is not the connection's name.");
        }

        try
        {
            await connections.RemoveAsync(name, ConnectionApi.UsersOf(name, engine), cancellation);
        }
        catch (RequestRefusedException exception)
        {
            return await RefuseAsync(name, $"{exception.Message} {exception.Remedy}");
        }

        TempData["Done"] = !IsStandIn ? $"{name} is forgotten, its secret with it." : $"{name} is forgotten. Its file stays in the data folder.";
        return Redirect("/connections");
    }

    private bool Find(string name)
    {
        Connection = connections.Find(name)!;
        if (Connection is null)
        {
            return false;
        }

        StandIn = OpenStandIn(name);
        Workload = StandIn is not null && demo.Workload is { } work && work.Database == StandIn ? work : null;
        return true;
    }

    /// <summary>Null also where its file cannot be opened, of which the test of the connection tells.</summary>
    private StandInDatabase? OpenStandIn(string name)
    {
        try
        {
            return connections.StandIn(name);
        }
        catch (PortException)
        {
            return null;
        }
    }

    /// <summary>The tables, read at the server itself, so that a drill can be set while another is on.</summary>
    private async Task<IReadOnlyList<TableDescription>> Unhindered(string name, CancellationToken cancellation) =>
        await connections.StandIn(name)!.ReadTablesAtServerAsync(cancellation);

    private async Task<IActionResult> DrillAsync(string name, Action<StandInDrills> set, string said)
    {
        if (!Find(name) || StandIn is null)
        {
            return NotFound();
        }

        set(StandIn.Drills);
        await engine.Events.OfConnectionAsync(name, EventKind.Note, said, Who.Of(HttpContext));
        TempData["Done"] = said;
        return Redirect($"/connections/{name}");
    }

    private Task<IActionResult> RefuseAsync(string name, string why)
    {
        TempData["Refused"] = why;
        return Task.FromResult<IActionResult>(Redirect($"/connections/{name}"));
    }
}
