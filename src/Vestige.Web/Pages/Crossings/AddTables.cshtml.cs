using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Web.Connections;
using Vestige.Web.Crossings;

namespace Vestige.Web.Pages.Crossings;

/// <summary>Which other tables of the source can come to this crossing, and what happens when they do?</summary>
public class AddTablesModel(CrossingEngine engine, ConnectionDirectory connections, Catalogues catalogues, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    private const int NamesShown = 5;

    public override string View => "tables";

    /// <summary>The source's tables that are to come.</summary>
    public IReadOnlyList<TableName> Chosen { get; private set; } = [];

    /// <summary>What was asked for and cannot come.</summary>
    public IReadOnlyList<string> Unknown { get; private set; } = [];

    /// <summary>Part of the name of the tables that are listed.</summary>
    public string Search { get; private set; } = "";

    /// <summary>The tables to choose from.</summary>
    public IReadOnlyList<TableDescription> Listed { get; private set; } = [];

    /// <summary>How many match, listed or not.</summary>
    public int Others { get; private set; }

    /// <summary>What it means; null until tables are chosen.</summary>
    public DefinitionChange? Change { get; private set; }

    /// <summary>The rows to load, estimated; null where the source has no estimate.</summary>
    public long? Rows { get; private set; }

    /// <summary>Why nothing can be said; null where it can.</summary>
    public string? Problem { get; private set; }

    public string What => Figures.Listed([.. Chosen.Select(table => table.ToString())], NamesShown);

    public async Task<IActionResult> OnGetAsync(string name, string[] table, string? find, CancellationToken cancellation)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        if (Status.State == CrossingState.Draft)
        {
            TempData["Refused"] = $"{name} is a draft: change its definition.";
            return Redirect($"/crossings/{name}/definition");
        }

        Search = find?.Trim() ?? "";
        try
        {
            await ChooseAsync(table, cancellation);
            Change = Chosen.Count > 0 ? await Engine.CompareAsync(Engine.Tables.With(name, Chosen), cancellation) : null;
        }
        catch (PortException exception)
        {
            Problem = $"{exception.Message} {exception.Remedy}";
        }
        catch (RequestRefusedException exception)
        {
            Problem = $"{exception.Message} {exception.Remedy}";
        }

        return Page();
    }

    public async Task<IActionResult> OnPostAsync(string name, string[] table, string? typed, CancellationToken cancellation)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        var back = $"/crossings/{name}/add-tables?{TablesOf.QueryOf(table)}";
        try
        {
            await ChooseAsync(table, cancellation);
            if (Unknown.Count > 0 || Chosen.Count == 0)
            {
                TempData["Refused"] = "Nothing was done: choose tables of the source.";
                return Redirect(back);
            }

            await Engine.Tables.AddAsync(name, Chosen, By, typed, cancellation);
            TempData["Done"] = Chosen.Count == 1 ? "The table is added; its load begins." : "The tables are added; their load begins.";
            return Redirect($"/crossings/{name}/tables");
        }
        catch (Exception exception) when (exception is PortException or RequestRefusedException or NotReadyException)
        {
            var remedy = (exception as PortException)?.Remedy ?? (exception as RequestRefusedException)?.Remedy;
            TempData["Refused"] = $"Nothing was done: {exception.Message} {remedy}";
            return Redirect(back);
        }
    }

    private async Task ChooseAsync(string[] asked, CancellationToken cancellation)
    {
        var mine = Status.Tables.Select(table => table.Source).ToHashSet();
        var others = (await catalogues.OfAsync(Status.Definition.Source, anew: asked.Length > 0, cancellation))
            .Where(table => table.PartOf is null && !mine.Contains(table.Schema.Name))
            .ToList();
        var wanted = asked.Where(one => one.Length > 0).ToHashSet();
        var chosen = others.Where(table => wanted.Contains(table.Schema.Name.ToString())).ToList();
        Chosen = [.. chosen.Select(table => table.Schema.Name)];
        Rows = chosen.TrueForAll(table => table.KnownRows is not null) ? chosen.Sum(table => table.EstimatedRows) : null;
        Unknown = [.. wanted.Except(Chosen.Select(one => one.ToString())).Order()];
        var found = others.Where(table => table.Schema.Name.ToString().Contains(Search, StringComparison.OrdinalIgnoreCase)).ToList();
        Others = found.Count;
        Listed =
        [
            .. found
                .OrderBy(table => !table.CrossesAs(Status.Definition.AppliedAs(table.Schema.Name)))
                .ThenBy(table => table.Schema.Name)
                .Take(ReloadModel.MostListed),
        ];
    }
}
