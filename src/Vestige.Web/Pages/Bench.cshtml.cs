using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Core.Positions;
using Vestige.Core.Text;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Web.Connections;
using Vestige.Web.Views;

namespace Vestige.Web.Pages;

/// <summary>Run statements on a system that has a bench, and see where the changes go.</summary>
public class BenchModel(ConnectionDirectory connections, CrossingEngine engine, SentForms forms) : PageModel
{
    public IReadOnlyList<ConnectionDefinition> All =>
        [.. connections.All.Where(connection => connections.KindOf(connection.Kind)?.Can.Contains(Capability.Bench) == true)];

    public string? Chosen { get; private set; }

    [BindProperty]
    public string Statement { get; set; } = "";

    public BenchResult? Result { get; private set; }

    public string? Refused { get; private set; }

    /// <summary>Tables to choose from, as written in statements.</summary>
    public IReadOnlyList<string> Tables { get; private set; } = [];

    /// <summary>Whether they could be read.</summary>
    public bool TablesRead { get; private set; } = true;

    public async Task<IActionResult> OnGetAsync(string? name, string? sent, CancellationToken cancellation)
    {
        if (!await ChooseAsync(name, cancellation))
        {
            return NotFound();
        }

        if (forms.Find<RunStatement>(sent, this) is { } run && run.Connection == Chosen)
        {
            (Statement, Result) = (run.Statement, run.Result);
            Refused ??= run.Refused;
        }

        return Page();
    }

    public async Task<IActionResult> OnPostAsync(string? name, CancellationToken cancellation)
    {
        if (!await ChooseAsync(name, cancellation) || Chosen is null)
        {
            return NotFound();
        }

        var run = await RunAsync(Chosen, cancellation);
        var shown = run.Result?.Rows.Sum(row => row.Sum(value => value.Length)) ?? 0;
        return Redirect($"/bench/{Chosen}?{SentForms.Field}={forms.Keep(run, Statement.Length + shown)}");
    }

    private async Task<RunStatement> RunAsync(string connection, CancellationToken cancellation)
    {
        try
        {
            var result = await connections.Find<IBench>(connection)!.RunAsync(Statement, cancellation);
            return new RunStatement(connection, Statement, result, Refused: null);
        }
        catch (RequestRefusedException exception)
        {
            return new RunStatement(connection, Statement, Result: null, $"{exception.Message} {exception.Remedy}");
        }
        catch (PortException exception)
        {
            return new RunStatement(connection, Statement, Result: null, $"{exception.Message} {exception.Remedy}");
        }
    }

    /// <summary>A position in the notation of the log of the chosen system.</summary>
    public string Shown(LogPosition position) => Figures.Position(connections.Source(Chosen!).Log.Format(position));

    /// <summary>Where a change can be seen to arrive: each started crossing that carries its table from here.</summary>
    public IReadOnlyList<(string Crossing, string Address)> Ways(BenchChange change)
    {
        ArgumentNullException.ThrowIfNull(change);
        return
        [
            .. engine
                .Statuses.Where(status => status.Definition.Source == Chosen && status.Tables.Any(table => table.Source == change.Table))
                .Select(status => (status.Name, Addresses.OfTable(status.Name, change.Table.ToString(), change.Key))),
        ];
    }

    private async Task<bool> ChooseAsync(string? name, CancellationToken cancellation)
    {
        if (name is not null && All.All(connection => connection.Name != name))
        {
            return false;
        }

        Chosen = name ?? (All.Count > 0 ? All[0].Name : null);
        if (Chosen is not null)
        {
            await ReadTablesAsync(Chosen, cancellation);
        }

        return true;
    }

    private async Task ReadTablesAsync(string chosen, CancellationToken cancellation)
    {
        try
        {
            Tables = [.. (await connections.Find<IBench>(chosen)!.ReadTablesAsync(cancellation)).Select(table => table.Name).Take(40)];
        }
        catch (PortException exception)
        {
            (Refused, TablesRead) = ($"{exception.Message} {exception.Remedy}", false);
        }
    }
}
