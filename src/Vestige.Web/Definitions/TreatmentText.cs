using System.Text.RegularExpressions;
using Vestige.Core.Treatments;

namespace Vestige.Web.Definitions;

/// <summary>The steps of a treatment as text: the list that stands under <c>treatment</c> in a definition's file.</summary>
public sealed partial class TreatmentText : PartText
{
    private const string Field = "treatment";

    private TreatmentText(string? text)
        : base(Field, text) { }

    /// <summary>Empty when there are none, and when the text could not be read.</summary>
    public IReadOnlyList<TreatmentStep> Steps => Whole.Definition?.Treatment ?? [];

    public static TreatmentText Read(string? text) => new(text);

    public static string Write(IReadOnlyList<TreatmentStep>? steps) =>
        steps is { Count: > 0 } ? Write(Field, definition => definition with { Treatment = steps }) : "";

    /// <summary>The text with other steps; a step that stays is left as a person wrote it, with its comments.</summary>
    public string With(IReadOnlyList<TreatmentStep> steps)
    {
        ArgumentNullException.ThrowIfNull(steps);
        var written = Beginning().Split($"{Text}\n");
        if (written.Length != Steps.Count + 1)
        {
            return Write(steps);
        }

        var kept = Steps.Select((step, i) => (Step: Write([step]), Text: written[i + 1])).ToList();
        var texts = steps.Select(step => Write([step]));
        return written[0] + string.Concat(texts.Select(text => kept.Find(one => one.Step == text).Text ?? text));
    }

    [GeneratedRegex("^(?=- )", RegexOptions.Multiline | RegexOptions.CultureInvariant, matchTimeoutMilliseconds: 1000)]
    private static partial Regex Beginning();

    /// <summary>A problem found later, with the place of its field in the text; of an expression the very character.</summary>
    public LocatedProblem Placed(TreatmentProblem problem)
    {
        ArgumentNullException.ThrowIfNull(problem);
        return Moved(Whole.Placed(problem));
    }
}
