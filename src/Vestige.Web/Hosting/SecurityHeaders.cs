namespace Vestige.Web.Hosting;

/// <summary>Everything a page loads comes from here, no script or style stands in a page, and no other site may frame it.</summary>
public static class SecurityHeaders
{
    private const string Policy =
        "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self'; font-src 'self'; connect-src 'self'; "
        + "worker-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'";

    public static Task InvokeAsync(HttpContext context, RequestDelegate next)
    {
        ArgumentNullException.ThrowIfNull(context);
        ArgumentNullException.ThrowIfNull(next);
        context.Response.Headers.ContentSecurityPolicy = Policy;
        context.Response.Headers.XContentTypeOptions = "nosniff";
        context.Response.Headers["Referrer-Policy"] = "same-origin";
        return next(context);
    }
}
