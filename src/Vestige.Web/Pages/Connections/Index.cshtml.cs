using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Core.Crossings;
using Vestige.Engine.Capturing;
using Vestige.Engine.Commands;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Web.Connections;

namespace Vestige.Web.Pages.Connections;

/// <summary>Which systems can be reached?</summary>
public class IndexModel(
    ConnectionDirectory connections,
    ConnectionChecks checks,
    CrossingEngine engine,
    SentForms forms,
    TimeProvider clock
) : PageModel
{
    private const int MostOfAddress = 4;
    private Dictionary<string, CaptureStatus> captures = [];

    public IReadOnlyList<ConnectionDefinition> All => connections.All;

    public ILookup<string, CrossingStatus> Users { get; private set; } = null!;

    /// <summary>The kinds of which one can be made here, those first that reach a system of one's own.</summary>
    public IEnumerable<IConnectorKind> Kinds => connections.Kinds.OrderByDescending(kind => kind.Fields.Count > 0);

    /// <summary>The kind whose form was sent; null when none was.</summary>
    public string? Sent { get; private set; }

    public IReadOnlyList<DefinitionProblem> Problems { get; private set; } = [];

    [BindProperty]
    public string? Name { get; set; }

    /// <summary>What was typed, the secret apart.</summary>
    public IReadOnlyDictionary<string, string> Settings { get; private set; } = new Dictionary<string, string>();

    public SettingForm FormOf(IConnectorKind kind)
    {
        ArgumentNullException.ThrowIfNull(kind);
        return new SettingForm(kind.Fields, kind.Kind == Sent ? Settings : new Dictionary<string, string>(), kind.Kind);
    }

    /// <summary>What its kind is called.</summary>
    public string TitleOf(ConnectionDefinition connection)
    {
        ArgumentNullException.ThrowIfNull(connection);
        return connections.KindOf(connection.Kind)?.Title ?? connection.Kind;
    }

    /// <summary>Where its system is: what was typed of it, in the order of the form, secrets apart.</summary>
    public string AddressOf(ConnectionDefinition connection)
    {
        ArgumentNullException.ThrowIfNull(connection);
        var fields = connections.KindOf(connection.Kind)?.Fields.Select(field => field.Name) ?? connection.Settings.Keys;
        return string.Join(
            ", ",
            fields.Select(field => connection.Settings.GetValueOrDefault(field) ?? "").Where(value => value.Length > 0).Take(MostOfAddress)
        );
    }

    /// <summary>Source, target or both, by the crossings that use it; empty for none.</summary>
    public string RoleOf(string connection) =>
        (
            Users[connection].Any(status => status.Definition.Source == connection),
            Users[connection].Any(status => status.Definition.Target == connection)
        ) switch
        {
            (true, true) => "source, target",
            (true, _) => "source",
            (_, true) => "target",
            _ => "",
        };

    /// <summary>
    /// Whether it is reached by those who use it now, in a word, and why not; where nobody uses it now, only that a test failed.
    /// </summary>
    public (string Word, string? Why) StateOf(string connection)
    {
        var capture = captures.GetValueOrDefault(connection);
        if (capture is { Running: false } stopped)
        {
            return ("waiting", stopped.Waiting);
        }

        var working = Users[connection].Where(status => status.AtWork || status.Waiting is not null).ToList();
        if (working.Find(status => status.Waiting is not null && status.Definition.Target == connection) is { Waiting: { } waiting })
        {
            return ("waiting", waiting.What);
        }

        if (working.Count > 0 || capture is not null)
        {
            return ("connected", null);
        }

        return checks.Of(connection) is { Problem: { } problem } ? ("not reachable", problem) : ("", null);
    }

    /// <summary>What the latest test gave; null where none was made since the start.</summary>
    public CheckedConnection? CheckOf(string connection) => checks.Of(connection);

    /// <summary>How long ago something was.</summary>
    public TimeSpan Ago(DateTimeOffset at) => clock.GetUtcNow() - at;

    /// <summary>The list, and the forms as they were sent.</summary>
    /// <param name="sent">A form that was refused, by the name under which it is kept; null for none.</param>
    public void OnGet(string? sent)
    {
        Look();
        if (forms.Find<SentConnection>(sent, this) is { } refused)
        {
            (Sent, Name, Settings, Problems) = (refused.Kind, refused.Name, refused.Settings, refused.Problems);
        }
    }

    public async Task<IActionResult> OnPostAsync(string? kind, CancellationToken cancellation)
    {
        if (connections.KindOf(kind ?? "") is not { } chosen)
        {
            return NotFound();
        }

        var settings = SettingForm.SettingsIn(Request.Form, chosen.Fields);
        var secret = SettingForm.SecretIn(Request.Form, chosen.Fields);
        var connection = new ConnectionDefinition(Name ?? "", chosen.Kind, settings, HasSecret: false);
        var problems = connections.Find(connection.Name) is null
            ? connections.Check(connection, secret)
            : [new DefinitionProblem("name", $"there is a connection {connection.Name} already", "Choose another name.")];
        if (problems.Count > 0)
        {
            var typed = settings.Values.Sum(value => value.Length);
            var refused = forms.Keep(new SentConnection(chosen.Kind, connection.Name, settings, problems), typed);
            return Redirect($"/connections?{SentForms.Field}={refused}");
        }

        await connections.SaveAsync(connection, secret, cancellation);
        if (chosen.Can.Contains(Capability.Bench))
        {
            TempData["Done"] = $"The {chosen.Title} {connection.Name} is there, empty. Fill it on the Bench.";
        }

        return Redirect($"/connections/{connection.Name}");
    }

    private void Look()
    {
        var all = engine.Statuses;
        captures = engine.CaptureStatuses.ToDictionary(capture => capture.Connection);
        Users = all.Select(status => (status.Definition.Source, status))
            .Concat(all.Select(status => (status.Definition.Target, status)))
            .ToLookup(pair => pair.Item1, pair => pair.status);
    }
}
