using Vestige.Core.Crossings;
using Vestige.Core.Treatments;

namespace Vestige.Web.Definitions;

/// <summary>A definition as read from its text.</summary>
/// <param name="Definition">Null when the text could not be read.</param>
/// <param name="Problems">Why not; empty when it could.</param>
/// <param name="Places">Where each field stands, by its path, as <c>tables.rules[0].take</c>.</param>
public sealed record ReadDefinition(
    CrossingDefinition? Definition,
    IReadOnlyList<LocatedProblem> Problems,
    IReadOnlyDictionary<string, DefinitionLocation> Places
)
{
    /// <summary>A problem found later, with the place of its field or of what that field belongs to.</summary>
    public LocatedProblem Placed(DefinitionProblem problem)
    {
        ArgumentNullException.ThrowIfNull(problem);
        return new LocatedProblem(problem, PlaceOf(problem.Field));
    }

    /// <summary>
    /// The same for a treatment; within an expression that stands on one line the place is that of the character at fault.
    /// </summary>
    public LocatedProblem Placed(TreatmentProblem problem)
    {
        ArgumentNullException.ThrowIfNull(problem);
        var place =
            Values.TryGetValue(problem.Field, out var value) && problem.Place is { } character
                ? new DefinitionLocation(value.Line, value.Column + character)
                : PlaceOf(problem.Field);
        return new LocatedProblem(new DefinitionProblem(problem.Field, problem.Found, problem.Remedy), place);
    }

    /// <summary>Where the text of a field's value begins, for plain and quoted texts on one line.</summary>
    public IReadOnlyDictionary<string, DefinitionLocation> Values { get; init; } = new Dictionary<string, DefinitionLocation>();

    /// <summary>Where a field stands, or what it belongs to where it was not written; null when neither is there.</summary>
    public DefinitionLocation? PlaceOf(string field)
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
