using Vestige.Core.Crossings;

namespace Vestige.Web.Definitions;

/// <summary>A definition as read from its text.</summary>
/// <param name="Definition">Null when the text could not be read.</param>
/// <param name="Problems">Why not; empty when it could.</param>
/// <param name="Places">Where each field stands, by its path, as <c>tables.rules[0].take</c>.</param>
public sealed record ReadDefinition(CrossingDefinition? Definition, IReadOnlyList<PlacedProblem> Problems, IReadOnlyDictionary<string, DefinitionPlace> Places)
{
    /// <summary>A problem found later, with the place of its field or of what that field belongs to.</summary>
    public PlacedProblem Placed(DefinitionProblem problem)
    {
        ArgumentNullException.ThrowIfNull(problem);
        return new PlacedProblem(problem, PlaceOf(problem.Field));
    }

    /// <summary>Where a field stands, or what it belongs to where it was not written; null when neither is there.</summary>
    public DefinitionPlace? PlaceOf(string field)
    {
        ArgumentNullException.ThrowIfNull(field);
        for (var path = field; path.Length > 0; path = path[..Math.Max(0, path.LastIndexOfAny(['.', '[']))])
        {
            if (Places.TryGetValue(path, out var place))
            {
                return place;
            }
        }

        return Places.TryGetValue("", out var root) ? root : null;
    }
}
