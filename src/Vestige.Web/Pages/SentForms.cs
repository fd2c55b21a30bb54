using System.Security.Cryptography;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Microsoft.Extensions.Caching.Memory;

namespace Vestige.Web.Pages;

/// <summary>
/// Keeps what a form sent and what came of it for a quarter of an hour, so that the answer can be a redirect and Back never asks to send
/// the form again. In memory only, bounded, and gone with the process. Secrets are never given to it. Safe for several threads.
/// </summary>
public sealed class SentForms : IDisposable
{
    /// <summary>The field of an address that names what was sent.</summary>
    public const string Field = "sent";

    private const int MostBytes = 64 << 20;

    /// <summary>What an entry takes beside its texts.</summary>
    private const int EntryBytes = 4096;
    private static readonly TimeSpan Kept = TimeSpan.FromMinutes(15);
    private readonly MemoryCache cache = new(
        new MemoryCacheOptions { SizeLimit = MostBytes, TrackStatistics = true }
    );

    /// <summary>Keeps it, and returns the name by which it is found. The oldest are forgotten where there are too many.</summary>
    /// <param name="sent">What was sent, and what came of it.</param>
    /// <param name="characters">How many characters its texts have, as an estimate.</param>
    public string Keep<T>(T sent, int characters)
        where T : class
    {
        var name = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(16));
        var size = EntryBytes + (2L * characters);
        if (cache.GetCurrentStatistics()?.CurrentEstimatedSize + size > MostBytes)
        {
            cache.Compact(0.5);
        }

        cache.Set(name, sent, new MemoryCacheEntryOptions { AbsoluteExpirationRelativeToNow = Kept, Size = size });
        return name;
    }

    /// <summary>What was kept under that name; null without a name, and where it is no longer kept, which the page then says.</summary>
    public T? Find<T>(string? name, PageModel page)
        where T : class
    {
        ArgumentNullException.ThrowIfNull(page);
        if (name is null)
        {
            return null;
        }

        if (cache.TryGetValue(name, out var found) && found is T kept)
        {
            return kept;
        }

        page.TempData["Refused"] = "What was sent is no longer kept. Fill in the form again.";
        return null;
    }

    public void Dispose() => cache.Dispose();
}
