namespace Vestige.Web.Views;

/// <summary>Cuts lists into pages.</summary>
public static class Paging
{
    /// <summary>A page of a list; the last one where the list has fewer.</summary>
    /// <param name="all">The whole list.</param>
    /// <param name="number">The page that is asked for.</param>
    /// <param name="length">How many are on a page.</param>
    public static PageOf<T> Of<T>(IReadOnlyList<T> all, int number, int length)
    {
        ArgumentNullException.ThrowIfNull(all);
        var last = Math.Max(1, (all.Count + length - 1) / length);
        var shown = Math.Clamp(number, 1, last);
        return new PageOf<T>([.. all.Skip((shown - 1) * length).Take(length)], shown, last, all.Count);
    }
}
