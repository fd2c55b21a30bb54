using YamlDotNet.Core;
using YamlDotNet.Core.Events;

namespace Vestige.Web.Definitions;

/// <summary>
/// Looks through a YAML text event by event before a document is made of it: how deep it goes and how many nodes it has. The parser
/// of events keeps its place in a list; making nodes of it calls itself, and would end the process at some depth.
/// </summary>
internal static class YamlLimits
{
    /// <summary>A definition has about six levels.</summary>
    private const int Deepest = 32;
    private const int MostNodes = 100_000;

    /// <summary>More brackets than this in a row open more levels than are taken; the scanner is slow on them.</summary>
    private const int MostOpen = 256;

    /// <summary>Throws <see cref="YamlException"/> at the place where a limit is passed.</summary>
    public static void Check(string text)
    {
        CheckBrackets(text);
        var parser = new Parser(new StringReader(text));
        var (depth, nodes) = (0, 0);
        while (parser.MoveNext())
        {
            var here = parser.Current!;
            switch (here)
            {
                case AnchorAlias:
                case NodeEvent { Anchor.IsEmpty: false }:
                    throw new YamlException(here.Start, here.End, "Anchors and aliases are not taken here; write it out.");
                case MappingStart or SequenceStart:
                    depth++;
                    nodes++;
                    break;
                case MappingEnd or SequenceEnd:
                    depth--;
                    break;
                case Scalar:
                    nodes++;
                    break;
            }

            if (depth > Deepest || nodes > MostNodes)
            {
                throw new YamlException(
                    here.Start,
                    here.End,
                    depth > Deepest ? $"It goes deeper than {Deepest} levels." : $"It has more than {MostNodes} values."
                );
            }
        }
    }

    private static void CheckBrackets(string text)
    {
        var (open, line, column) = (0, 1, 1);
        foreach (var c in text)
        {
            open = c switch
            {
                '[' or '{' => open + 1,
                ']' or '}' => Math.Max(0, open - 1),
                _ => open,
            };
            (line, column) = c == '\n' ? (line + 1, 1) : (line, column + 1);
            if (open > MostOpen)
            {
                var mark = new Mark(0, line, column);
                throw new YamlException(mark, mark, $"More than {MostOpen} brackets are open.");
            }
        }
    }
}
