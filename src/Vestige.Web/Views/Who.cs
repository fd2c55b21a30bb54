namespace Vestige.Web.Views;

/// <summary>The typed, unverified name of the person at the browser.</summary>
public static class Who
{
    public const string Cookie = "vestige-name";

    /// <summary>The name shown for a person who gave none.</summary>
    public const string Unnamed = "unnamed";
    private const int Longest = 40;

    public static string Of(HttpContext context)
    {
        ArgumentNullException.ThrowIfNull(context);
        var name = context.Request.Cookies[Cookie]?.Trim();
        return string.IsNullOrEmpty(name) ? Unnamed
            : name.Length > Longest ? name[..Longest]
            : name;
    }
}
