using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Web.Views;

namespace Vestige.Web.Pages;

/// <summary>The name that stands beside what a person does, and the colours of the pages.</summary>
public class YouModel : PageModel
{
    public string Name => Who.Of(HttpContext);

    /// <summary>The chosen theme; null to follow the system.</summary>
    public string? Chosen => Theme.Of(HttpContext);

    public IActionResult OnPost(string? name, string? theme)
    {
        Keep(Who.Cookie, (name ?? "").Trim());
        if (theme is not null && Theme.Own.Contains(theme))
        {
            Keep(Theme.Cookie, theme);
        }
        else
        {
            Response.Cookies.Delete(Theme.Cookie);
        }

        TempData["Done"] = "Saved.";
        return Redirect("/you");
    }

    private void Keep(string cookie, string value) =>
        Response.Cookies.Append(
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
