namespace Vestige.Web.Views;

/// <summary>The colours that the person at the browser chose.</summary>
public static class Theme
{
    public const string Cookie = "vestige-theme";

    /// <summary>What can be chosen besides what the system says.</summary>
    public static readonly IReadOnlyList<string> Own = ["light", "dark"];

    /// <summary>The chosen one; null to follow the system.</summary>
    public static string? Of(HttpContext context)
    {
        ArgumentNullException.ThrowIfNull(context);
        return context.Request.Cookies[Cookie] is { } theme && Own.Contains(theme) ? theme : null;
    }
}
