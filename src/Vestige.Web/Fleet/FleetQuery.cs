using Microsoft.AspNetCore.WebUtilities;
using Vestige.Core.Crossings;
using Vestige.Core.Headlines;
using Vestige.Engine.Measuring;

namespace Vestige.Web.Fleet;

/// <summary>Which crossings are listed and how, as the address of a page says it. What it does not know matches nothing.</summary>
/// <param name="Find">A part of a name, of either connection, or of a tag; empty for all.</param>
/// <param name="Word">A headline's word; empty for every one.</param>
/// <param name="Tag">A tag; empty for every one.</param>
/// <param name="Connection">A connection, as source or target; empty for every one.</param>
/// <param name="Order">The order.</param>
/// <param name="ByTag">Whether they are grouped by their first tag.</param>
/// <param name="Page">The page, from 1 on.</param>
public sealed record FleetQuery(
    string Find = "",
    string Word = "",
    string Tag = "",
    string Connection = "",
    FleetOrder Order = FleetOrder.Worst,
    bool ByTag = false,
    int Page = 1
)
{
    /// <summary>Reads the query of an address.</summary>
    public static FleetQuery Of(IQueryCollection query)
    {
        ArgumentNullException.ThrowIfNull(query);
        return new FleetQuery(
            query["find"].ToString().Trim(),
            query["word"].ToString(),
            query["tag"].ToString(),
            query["connection"].ToString(),
            Enum.TryParse<FleetOrder>(query["sort"], ignoreCase: true, out var order) && Enum.IsDefined(order) ? order : FleetOrder.Worst,
            query["group"] == "tag",
            int.TryParse(query["page"], out var page) ? Math.Clamp(page, 1, 100_000) : 1
        );
    }

    /// <summary>Whether anything is left out.</summary>
    public bool IsNarrowed => Find.Length > 0 || Word.Length > 0 || Tag.Length > 0 || Connection.Length > 0;

    /// <summary>The crossings it asks for, in its order, on all pages.</summary>
    public IReadOnlyList<CrossingStatus> Of(IEnumerable<CrossingStatus> all)
    {
        var found = all.Where(Matches);
        var ordered = Order switch
        {
            FleetOrder.Name => found.OrderBy(status => status.Name, StringComparer.Ordinal),
            FleetOrder.Behind => found.OrderByDescending(Behind),
            FleetOrder.Rate => found.OrderByDescending(status => status.Applied),
            _ => found.OrderBy(status => status.Headline.Word).ThenByDescending(Behind),
        };
        var named = ordered.ThenBy(status => status.Name, StringComparer.Ordinal);

        // A sort keeps the order of equals.
        return ByTag ? [.. named.OrderBy(status => TagOf(status).Length == 0).ThenBy(TagOf, StringComparer.Ordinal)] : [.. named];
    }

    /// <summary>The tag under which a crossing is listed; empty without one.</summary>
    public static string TagOf(CrossingStatus status)
    {
        ArgumentNullException.ThrowIfNull(status);
        return status.Definition.Tags is [var first, ..] ? first : "";
    }

    /// <summary>The address of a page that shows this.</summary>
    /// <param name="path">The page.</param>
    public string Address(string path)
    {
        var parts = new Dictionary<string, string?>();
        void Add(string name, string value)
        {
            if (value.Length > 0)
            {
                parts[name] = value;
            }
        }

        Add("find", Find);
        Add("word", Word);
        Add("tag", Tag);
        Add("connection", Connection);
        Add("sort", Order == FleetOrder.Worst ? "" : Order.ToString().ToLowerInvariant());
        Add("group", ByTag ? "tag" : "");
        Add("page", Page > 1 ? $"{Page}" : "");
        return QueryHelpers.AddQueryString(path, parts);
    }

    private static TimeSpan Behind(CrossingStatus status) => status.Lag is { Current: false } lag ? lag.Behind : TimeSpan.Zero;

    private bool Matches(CrossingStatus status)
    {
        var definition = status.Definition;
        return (Word.Length == 0 || status.Headline.Word.Text() == Word)
            && (Tag.Length == 0 || definition.Tags?.Contains(Tag) == true)
            && (Connection.Length == 0 || definition.Source == Connection || definition.Target == Connection)
            && (
                Find.Length == 0
                || ((string[])[status.Name, definition.Source, definition.Target, .. definition.Tags ?? []]).Any(text =>
                    text.Contains(Find, StringComparison.OrdinalIgnoreCase)
                )
            );
    }
}
