using Microsoft.AspNetCore.Mvc;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Structures;
using Vestige.Web.Connections;

namespace Vestige.Web.Pages.Crossings;

/// <summary>Which indexes and constraints does the target lack?</summary>
public class StructureModel(CrossingEngine engine, ConnectionDirectory connections, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    /// <summary>More are found over HTTP.</summary>
    public const int MostListed = 200;

    public override string View => "tables";

    /// <summary>What is missing; null where that is not known.</summary>
    public IReadOnlyList<MissingPart>? Missing { get; private set; }

    /// <summary>What of it is being built.</summary>
    public IReadOnlyList<MissingPart> Building { get; private set; } = [];

    /// <summary>Why it is not known; null where it is.</summary>
    public string? Problem { get; private set; }

    /// <summary>Whether a part is being built.</summary>
    public bool IsBuilding(MissingPart part) => Building.Any(one => one.Table == part.Table && one.Name == part.Name);

    public async Task<IActionResult> OnGetAsync(string name, CancellationToken cancellation)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        Building = Engine.Structure.Running(name);
        try
        {
            Missing = await Engine.Structure.MissingAsync(name, cancellation);
        }
        catch (RequestRefusedException exception)
        {
            Problem = $"{exception.Message} {exception.Remedy}";
        }
        catch (PortException exception)
        {
            Problem = $"{exception.Message} {exception.Remedy}";
        }

        return Page();
    }

    public async Task<IActionResult> OnPostAsync(string name, string[] part, CancellationToken cancellation)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        // A name holds no line end: the table and the name are two lines.
        List<(string, string)> names =
        [
            .. part.Select(one => one.Split('\n', 2)).Where(one => one.Length == 2).Select(one => (one[0].Trim(), one[1])),
        ];
        return await DoAsync(
            $"/crossings/{name}/structure",
            "Building has begun. An event tells of each when it is built.",
            () => Engine.Structure.BuildAsync(name, names, By, cancellation)
        );
    }
}
