using Vestige.Core.Crossings;
using Vestige.Core.Treatments;

namespace Vestige.Web.Definitions;

/// <summary>The steps of a treatment as text: the list that stands under <c>treatment</c> in a definition's file.</summary>
public sealed class TreatmentText
{
    private const string Head = "name: x\npurpose: copy\nsource: x\ntarget: y\ntables:\n  rules: []\ntreatment:\n";
    private const int HeadLines = 7;
    private const int Indent = 2;
    private readonly ReadDefinition read;

    private TreatmentText(string text, ReadDefinition read)
    {
        Text = text;
        this.read = read;
        Steps = read.Definition?.Treatment ?? [];
        Problems = [.. read.Problems.Select(Moved)];
    }

    public string Text { get; }

    /// <summary>Empty when there are none, and when the text could not be read.</summary>
    public IReadOnlyList<TreatmentStep> Steps { get; }

    /// <summary>Why the text could not be read, by line and column of the text itself.</summary>
    public IReadOnlyList<PlacedProblem> Problems { get; }

    public static TreatmentText Read(string? text)
    {
        var lines = (text ?? "").Replace("\r", "", StringComparison.Ordinal).TrimEnd();
        var indented = string.Join('\n', lines.Split('\n').Select(line => new string(' ', Indent) + line));
        return new TreatmentText(lines, DefinitionYaml.Read(lines.Trim().Length == 0 ? Head.Replace("treatment:\n", "", StringComparison.Ordinal) : Head + indented + "\n"));
    }

    public static string Write(IReadOnlyList<TreatmentStep>? steps)
    {
        if (steps is not { Count: > 0 })
        {
            return "";
        }

        var whole = DefinitionYaml.Write(new CrossingDefinition("x", CrossingDefinition.Copy, "x", "y", new TableRules([]), Treatment: steps));
        var list = whole[(whole.IndexOf("treatment:\n", StringComparison.Ordinal) + "treatment:\n".Length)..];
        return list.TrimEnd() + "\n";
    }

    /// <summary>A problem found later, with the place of its field in the text; of an expression the very character.</summary>
    public PlacedProblem Placed(TreatmentProblem problem)
    {
        ArgumentNullException.ThrowIfNull(problem);
        return Moved(read.Placed(problem));
    }

    private PlacedProblem Moved(PlacedProblem placed) => placed.Place is { } place && place.Line > HeadLines
        ? placed with { Place = new DefinitionPlace(Math.Min(place.Line - HeadLines, Math.Max(1, Text.Split('\n').Length)), Math.Max(1, place.Column - Indent)) }
        : placed with { Place = null };
}
