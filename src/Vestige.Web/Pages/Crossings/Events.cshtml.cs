using Microsoft.AspNetCore.Mvc;
using Vestige.Engine.Commands;
using Vestige.Web.Connections;
using Vestige.Web.Hosting;

namespace Vestige.Web.Pages.Crossings;

/// <summary>What happened to a crossing?</summary>
public class EventsModel(CrossingEngine engine, ConnectionDirectory connections, ControlStore store, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    private const int Most = 200;

    public override string View => "events";

    public IReadOnlyList<StoredEvent> Events { get; private set; } = [];

    public async Task<IActionResult> OnGetAsync(string name, CancellationToken cancellation)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        Events = await store.EventsAsync(new EventFilter(name), null, Most, cancellation);
        return Page();
    }
}
