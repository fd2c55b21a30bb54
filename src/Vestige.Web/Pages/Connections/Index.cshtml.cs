using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Core.Crossings;
using Vestige.Engine.Measuring;
using Vestige.Engine.Supervision;
using Vestige.Web.Api;
using Vestige.Web.Connections;

namespace Vestige.Web.Pages.Connections;

/// <summary>Which systems can be reached?</summary>
public class IndexModel(ConnectionDirectory connections, CrossingEngine engine) : PageModel
{
    private static readonly string[] ServerFields = ["host", "port", "database", "user", "tls", "ca", "note"];

    /// <summary>The settings of a server as a form gives them; what was left empty is left out.</summary>
    public static Dictionary<string, string> SettingsIn(IFormCollection form)
    {
        ArgumentNullException.ThrowIfNull(form);
        return ServerFields.Where(field => !string.IsNullOrWhiteSpace(form[field])).ToDictionary(field => field, field => form[field].ToString().Trim());
    }

    public IReadOnlyList<ConnectionDefinition> All => connections.All;

    public ILookup<string, CrossingStatus> Users { get; private set; } = null!;

    public IReadOnlyList<DefinitionProblem> Problems { get; private set; } = [];

    [BindProperty]
    public string? Name { get; set; }

    /// <summary>What was typed for a server, the password apart.</summary>
    public Dictionary<string, string> Server { get; private set; } = [];

    public IReadOnlyList<DefinitionProblem> ServerProblems { get; private set; } = [];

    public void OnGet() => Look();

    public async Task<IActionResult> OnPostServerAsync(string? password, CancellationToken cancellation)
    {
        Look();
        Server = SettingsIn(Request.Form);
        var connection = new ConnectionDefinition(Name ?? "", "postgresql", Server, HasSecret: false);
        ServerProblems = connections.Find(connection.Name) is null
            ? connections.Check(connection, secret: null)
            : [new DefinitionProblem("name", $"there is a connection {connection.Name} already", "Choose another name.")];
        if (ServerProblems.Count > 0)
        {
            return Page();
        }

        await connections.SaveAsync(connection, string.IsNullOrEmpty(password) ? null : ConnectionBody.SecretOf(password), cancellation);
        return Redirect($"/connections/{connection.Name}");
    }

    public async Task<IActionResult> OnPostAsync(CancellationToken cancellation)
    {
        Look();
        var connection = new ConnectionDefinition(Name ?? "", ConnectionDefinition.StandIn, new Dictionary<string, string>(), HasSecret: false);
        Problems = connections.Find(connection.Name) is null
            ? connections.Check(connection, secret: null)
            : [new DefinitionProblem("name", $"there is a connection {connection.Name} already", "Choose another name.")];
        if (Problems.Count > 0)
        {
            return Page();
        }

        await connections.SaveAsync(connection, null, cancellation);
        TempData["Done"] = $"The stand-in {connection.Name} is there, empty. Fill it on the Bench.";
        return Redirect($"/connections/{connection.Name}");
    }

    private void Look()
    {
        var all = engine.Statuses;
        Users = all.Select(status => (status.Definition.Source, status))
            .Concat(all.Select(status => (status.Definition.Target, status)))
            .ToLookup(pair => pair.Item1, pair => pair.status);
    }
}
