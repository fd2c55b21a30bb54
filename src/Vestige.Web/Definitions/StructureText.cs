using Vestige.Core.Crossings;

namespace Vestige.Web.Definitions;

/// <summary>Statements of a person's own as text: the list that stands under <c>structure</c> in a definition's file.</summary>
public sealed class StructureText : PartText
{
    private const string Field = "structure";

    private StructureText(string? text)
        : base(Field, text) { }

    /// <summary>Empty when there are none, and when the text could not be read.</summary>
    public IReadOnlyList<TableStatement> Statements => Whole.Definition?.Structure ?? [];

    public static StructureText Read(string? text) => new(text);

    public static string Write(IReadOnlyList<TableStatement>? statements) =>
        statements is { Count: > 0 } ? Write(Field, definition => definition with { Structure = statements }) : "";
}
