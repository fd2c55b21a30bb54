using Vestige.Core.Treatments;

namespace Vestige.Web.Definitions;

/// <summary>The steps of a treatment as text: the list that stands under <c>treatment</c> in a definition's file.</summary>
public sealed class TreatmentText : PartText
{
    private const string Field = "treatment";

    private TreatmentText(string? text)
        : base(Field, text) { }

    /// <summary>Empty when there are none, and when the text could not be read.</summary>
    public IReadOnlyList<TreatmentStep> Steps => Whole.Definition?.Treatment ?? [];

    public static TreatmentText Read(string? text) => new(text);

    public static string Write(IReadOnlyList<TreatmentStep>? steps) =>
        steps is { Count: > 0 } ? Write(Field, definition => definition with { Treatment = steps }) : "";

    /// <summary>A problem found later, with the place of its field in the text; of an expression the very character.</summary>
    public LocatedProblem Placed(TreatmentProblem problem)
    {
        ArgumentNullException.ThrowIfNull(problem);
        return Moved(Whole.Placed(problem));
    }
}
