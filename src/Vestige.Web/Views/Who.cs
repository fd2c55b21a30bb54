namespace Vestige.Web.Views;

/// <summary>The typed, unverified name of the person at the browser.</summary>
public static class Who
{
    public const string Cookie = "vestige-name";
    private const int Longest = 40;

    public static string Of(HttpContext context)
    {
        ArgumentNullException.ThrowIfNull(context);
        var name = context.Request.Cookies[Cookie]?.Trim();
        return string.IsNullOrEmpty(name) ? "unnamed"
            : name.Length > Longest ? name[..Longest]
            : name;
    }
}
