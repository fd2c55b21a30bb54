using Microsoft.AspNetCore.Mvc;
using Vestige.Engine.Commands;
using Vestige.Web.Connections;

namespace Vestige.Web.Pages.Crossings;

/// <summary>What is lost if this crossing is removed?</summary>
public class RemoveModel(CrossingEngine engine, ConnectionDirectory connections, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    public override string View => "remove";

    public IActionResult OnGet(string name) => Find(name) ? Page() : NotFound();

    public Task<IActionResult> OnPostAsync(string name, string? typed, CancellationToken cancellation)
    {
        if (typed == name)
        {
            return DoAsync("/crossings", $"{name} is removed. The rows on the target stay.", () =>
                Engine.RemoveAsync(name, By, cancellation)
            );
        }

        TempData["Refused"] = "Nothing was done: the name typed is not the crossing's name.";
        return Task.FromResult<IActionResult>(Redirect($"/crossings/{name}/remove"));
    }
}
