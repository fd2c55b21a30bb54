namespace Vestige.Web.Views;

/// <summary>What a person chose for one browser, kept there for a year.</summary>
public static class BrowserChoice
{
    public static void Keep(HttpResponse response, string cookie, string value)
    {
        ArgumentNullException.ThrowIfNull(response);
        response.Cookies.Append(
            cookie,
            value,
            new CookieOptions
            {
                HttpOnly = true,
                SameSite = SameSiteMode.Strict,
                MaxAge = TimeSpan.FromDays(365),
                IsEssential = true,
            }
        );
    }
}
