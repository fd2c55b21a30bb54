using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Web.Views;

namespace Vestige.Web.Pages;

/// <summary>The name that stands beside what a person does.</summary>
public class YouModel : PageModel
{
    public string Name => Who.Of(HttpContext);

    public IActionResult OnPost(string? name)
    {
        Response.Cookies.Append(
            Who.Cookie,
            (name ?? "").Trim(),
            new CookieOptions
            {
                HttpOnly = true,
                SameSite = SameSiteMode.Strict,
                MaxAge = TimeSpan.FromDays(365),
                IsEssential = true,
            }
        );
        return Redirect("/");
    }
}
