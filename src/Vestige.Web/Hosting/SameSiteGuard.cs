using Vestige.Web.Api;

namespace Vestige.Web.Hosting;

/// <summary>
/// Refuses calls to the API that another site's page makes in somebody's browser. Pages have antiforgery tokens; programs
/// send no Sec-Fetch-Site header.
/// </summary>
public static class SameSiteGuard
{
    public static async Task InvokeAsync(HttpContext context, RequestDelegate next)
    {
        ArgumentNullException.ThrowIfNull(context);
        ArgumentNullException.ThrowIfNull(next);
        var site = context.Request.Headers["Sec-Fetch-Site"].ToString();
        var changes = !HttpMethods.IsGet(context.Request.Method) && !HttpMethods.IsHead(context.Request.Method);
        if (changes && context.Request.Path.StartsWithSegments("/api", StringComparison.Ordinal) && site is not ("" or "same-origin" or "none"))
        {
            await Problems.Of(403, "other-site", "The call comes from a page of another site.", "Call the interface from a program, or from Vestige's own pages.").ExecuteAsync(context);
            return;
        }

        await next(context);
    }
}
