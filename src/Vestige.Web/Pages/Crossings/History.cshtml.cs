using Microsoft.AspNetCore.Mvc;
using Vestige.Engine.Commands;
using Vestige.Engine.Events;
using Vestige.Web.Connections;
using Vestige.Web.Crossings;

namespace Vestige.Web.Pages.Crossings;

/// <summary>What ran: each run with its counts, whence and whereto it went, and why it ended.</summary>
public class HistoryModel(CrossingEngine engine, ConnectionDirectory connections, RunHistory runs, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    private const int PerPage = 50;

    public override string View => "history";

    public IReadOnlyList<CrossingRun> Runs { get; private set; } = [];

    /// <summary>Whence the next page continues; null on the last.</summary>
    public DateTimeOffset? Next { get; private set; }

    public async Task<IActionResult> OnGetAsync(string name, DateTimeOffset? before, CancellationToken cancellation)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        var found = await runs.ReadAsync(name, before, PerPage + 1, cancellation);
        Runs = [.. found.Take(PerPage)];
        Next = found.Count > PerPage ? Runs[^1].BeganAt : null;
        return Page();
    }
}
