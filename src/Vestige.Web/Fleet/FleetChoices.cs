using Vestige.Core.Headlines;
using Vestige.Engine.Measuring;

namespace Vestige.Web.Fleet;

/// <summary>What a list of crossings can be narrowed by, with how many there are of each.</summary>
/// <param name="Query">What is chosen.</param>
/// <param name="Path">The page that lists.</param>
/// <param name="Words">The words of the headlines that there are, the worst first.</param>
/// <param name="Tags">The tags, by name.</param>
/// <param name="Connections">The connections, by name.</param>
public sealed record FleetChoices(
    FleetQuery Query,
    string Path,
    IReadOnlyList<(string Word, int Count)> Words,
    IReadOnlyList<(string Tag, int Count)> Tags,
    IReadOnlyList<string> Connections
)
{
    /// <summary>What these crossings can be narrowed by.</summary>
    public static FleetChoices Of(FleetQuery query, string path, IReadOnlyList<CrossingStatus> all)
    {
        ArgumentNullException.ThrowIfNull(all);
        return new(
            query,
            path,
            [
                .. all.GroupBy(status => status.Headline.Word)
                    .OrderBy(same => same.Key)
                    .Select(same => (same.Key.Text(), same.Count())),
            ],
            [
                .. all.SelectMany(status => status.Definition.Tags ?? [])
                    .GroupBy(tag => tag)
                    .OrderBy(same => same.Key, StringComparer.Ordinal)
                    .Select(same => (same.Key, same.Count())),
            ],
            [
                .. all.SelectMany(status => new[] { status.Definition.Source, status.Definition.Target })
                    .Distinct()
                    .Order(StringComparer.Ordinal),
            ]
        );
    }
}
