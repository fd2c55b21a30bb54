using System.Text;
using Microsoft.Net.Http.Headers;
using Vestige.Web.Api;

namespace Vestige.Web.Hosting;

/// <summary>What is refused of a request to the API before anything reads its body.</summary>
public static class RequestLimits
{
    /// <summary>The longest body of any request, in bytes; a form that names thousands of tables fits.</summary>
    public const int LongestBody = 4 << 20;

    /// <summary>The longest definition, in bytes.</summary>
    public const int LongestDefinition = 1 << 20;

    public static async Task InvokeAsync(HttpContext context, RequestDelegate next)
    {
        ArgumentNullException.ThrowIfNull(context);
        ArgumentNullException.ThrowIfNull(next);
        if (
            MediaTypeHeaderValue.TryParse(context.Request.ContentType, out var type)
            && type.Charset.HasValue
            && !IsKnown(type.Charset.Value)
        )
        {
            await Problems
                .Of(415, "malformed", "The request's character set is not known.", "Send UTF-8.", "Content-Type")
                .ExecuteAsync(context);
            return;
        }

        await next(context);
    }

    private static bool IsKnown(string charset)
    {
        try
        {
            return Encoding.GetEncoding(charset.Trim('"')).CodePage != 0;
        }
        catch (ArgumentException)
        {
            return false;
        }
    }
}
