using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Web.Views;

namespace Vestige.Web.Pages;

/// <summary>A person's name and theme.</summary>
public class YouModel : PageModel
{
    /// <summary>The chosen name; null where none was.</summary>
    public string? Name => Who.Of(HttpContext) is var name && name != Who.Unnamed ? name : null;

    /// <summary>The chosen theme; null to follow the system.</summary>
    public string? Chosen => Theme.Of(HttpContext);

    public IActionResult OnPost(string? name, string? theme)
    {
        BrowserChoice.Keep(Response, Who.Cookie, (name ?? "").Trim());
        if (theme is not null && Theme.Own.Contains(theme))
        {
            BrowserChoice.Keep(Response, Theme.Cookie, theme);
        }
        else
        {
            Response.Cookies.Delete(Theme.Cookie);
        }

        TempData["Done"] = "Saved.";
        return Redirect("/you");
    }
}
