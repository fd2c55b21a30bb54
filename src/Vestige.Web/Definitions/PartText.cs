using Vestige.Core.Crossings;

namespace Vestige.Web.Definitions;

/// <summary>A list that stands under a field of a definition's file, as text of its own.</summary>
public abstract class PartText
{
    private const string Head = "name: x\npurpose: copy\nsource: x\ntarget: y\ntables:\n  rules: []\n";
    private const int HeadLines = 7;
    private const int Indent = 2;

    private protected PartText(string field, string? text)
    {
        Text = (text ?? "").Replace("\r", "", StringComparison.Ordinal).TrimEnd();
        var indented = string.Join('\n', Text.Split('\n').Select(line => new string(' ', Indent) + line));
        Whole = DefinitionYaml.Read(Text.Trim().Length == 0 ? Head : $"{Head}{field}:\n{indented}\n");
        Problems = [.. Whole.Problems.Select(Moved)];
    }

    public string Text { get; }

    /// <summary>Why the text could not be read, by line and column of the text itself.</summary>
    public IReadOnlyList<LocatedProblem> Problems { get; }

    /// <summary>What was read, within a document that has nothing else to say.</summary>
    private protected ReadDefinition Whole { get; }

    private protected LocatedProblem Moved(LocatedProblem placed) =>
        placed.Place is { } place && place.Line > HeadLines
            ? placed with
            {
                Place = new DefinitionLocation(
                    Math.Min(place.Line - HeadLines, Math.Max(1, Text.Split('\n').Length)),
                    Math.Max(1, place.Column - Indent)
                ),
            }
            : placed with
            {
                Place = null,
            };

    /// <summary>The text of a list under a field; the definition has nothing else that stands behind it.</summary>
    private protected static string Write(string field, Func<CrossingDefinition, CrossingDefinition> with)
    {
        var whole = DefinitionYaml.Write(with(new CrossingDefinition("x", CrossingDefinition.Copy, "x", "y", new TableRules([]))));
        return whole[(whole.IndexOf($"{field}:\n", StringComparison.Ordinal) + field.Length + 2)..].TrimEnd() + "\n";
    }
}
