using Vestige.Web.Api;

namespace Vestige.Web.Hosting;

/// <summary>
/// Refuses what another site's page asks for in someone's browser, on every path and whatever the request carries: by
/// <c>Origin</c> (RFC 6454), which browsers send with every request that may change something, and by <c>Sec-Fetch-Site</c>, which
/// they send to trustworthy addresses only. A request with neither comes from a program.
/// </summary>
public static class SameSiteGuard
{
    public static async Task InvokeAsync(HttpContext context, VestigeSettings settings, RequestDelegate next)
    {
        ArgumentNullException.ThrowIfNull(context);
        ArgumentNullException.ThrowIfNull(settings);
        ArgumentNullException.ThrowIfNull(next);
        var request = context.Request;
        if (IsSafe(request.Method) || IsOurs(request, settings))
        {
            await next(context);
            return;
        }

        await Problems
            .Of(
                403,
                "other-site",
                "The call comes from a page of another site.",
                "Call the interface from a program, or from Vestige's own pages. Behind a proxy, start Vestige with --public-origin."
            )
            .ExecuteAsync(context);
    }

    private static bool IsSafe(string method) =>
        HttpMethods.IsGet(method) || HttpMethods.IsHead(method) || HttpMethods.IsOptions(method) || HttpMethods.IsTrace(method);

    private static bool IsOurs(HttpRequest request, VestigeSettings settings)
    {
        var site = request.Headers["Sec-Fetch-Site"].ToString();
        var origin = request.Headers.Origin.ToString();
        return site is "" or "same-origin" or "none"
            && (
                origin.Length == 0
                || string.Equals(origin, $"{request.Scheme}://{request.Host}", StringComparison.OrdinalIgnoreCase)
                || string.Equals(origin, settings.PublicOrigin, StringComparison.OrdinalIgnoreCase)
            );
    }
}
