using DiffPlex.DiffBuilder;
using DiffPlex.DiffBuilder.Model;
using Vestige.Core.Crossings;

namespace Vestige.Web.Definitions;

/// <summary>The difference between two definitions, by the lines of their files.</summary>
public static class DefinitionComparison
{
    public static IReadOnlyList<ComparedLine> Of(CrossingDefinition before, CrossingDefinition after) =>
        [
            .. InlineDiffBuilder
                .Diff(DefinitionYaml.Write(before), DefinitionYaml.Write(after))
                .Lines.Select(line => new ComparedLine(MarkOf(line.Type), line.Text)),
        ];

    private static char MarkOf(ChangeType type) =>
        type switch
        {
            ChangeType.Inserted => '+',
            ChangeType.Deleted => '−',
            _ => ' ',
        };
}
