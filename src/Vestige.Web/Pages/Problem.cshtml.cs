using Microsoft.AspNetCore.Diagnostics;
using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Engine.Faults;

namespace Vestige.Web.Pages;

/// <summary>What went wrong, for pages that cannot be shown.</summary>
[IgnoreAntiforgeryToken]
public class ProblemModel : PageModel
{
    public string Heading { get; private set; } = "";

    public string Says { get; private set; } = "";

    public void OnGet(int? status) => Tell(status);

    public void OnPost(int? status) => Tell(status);

    private void Tell(int? status)
    {
        var error = HttpContext.Features.Get<IExceptionHandlerFeature>()?.Error;
        HttpContext.Response.StatusCode = error switch
        {
            StoreException { IsFull: true } => StatusCodes.Status507InsufficientStorage,
            StoreException => StatusCodes.Status503ServiceUnavailable,
            PortException => StatusCodes.Status424FailedDependency,
            RequestRefusedException => StatusCodes.Status409Conflict,
            BadHttpRequestException bad => bad.StatusCode,
            _ => HttpContext.Response.StatusCode,
        };
        (Heading, Says) = (status, error) switch
        {
            (404, _) => (
                "There is no such page",
                "The address names a crossing, connection or table that is not there, or is mistyped. Find it with the box above."
            ),
            (400, _) => ("The form has expired", "Open the page again and resend the form."),
            (_, PortException port) => ("A system did not answer", $"{port.Message} {port.Remedy}"),
            (_, BadHttpRequestException) => ("The request cannot be read", "Open the page again and send it once more."),
            (_, RequestRefusedException refused) => ("That cannot be done", $"{refused.Message} {refused.Remedy}"),
            _ => (
                "Vestige made an error",
                "The log of the process says more. What you did last may not have been done; look before you repeat it."
            ),
        };
    }
}
