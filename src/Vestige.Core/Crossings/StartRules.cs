namespace Vestige.Core.Crossings;

/// <summary>What holds for how a crossing begins.</summary>
internal static class StartRules
{
    public static IEnumerable<DefinitionProblem> Problems(CrossingDefinition definition)
    {
        var start = definition.Start;
        if (definition is { Tables.Future: true, Kind: not StartKind.RowsThenChanges })
        {
            yield return new DefinitionProblem(
                "tables.future",
                "tables made later are loaded and followed, and this crossing does not do both",
                "Remove it, or carry rows and then changes."
            );
        }

        if (start?.From is { } from)
        {
            if (definition.Kind != StartKind.Changes)
            {
                yield return new DefinitionProblem(
                    "start.from",
                    "rows are carried as well, and they say where changes begin",
                    "Remove it, or carry changes only."
                );
            }

            if (NotOne("start.from", from) is { } notOne)
            {
                yield return notOne;
            }
        }

        if (start?.AsOf is { } asOf)
        {
            if (definition.Kind != StartKind.Rows)
            {
                yield return new DefinitionProblem(
                    "start.asOf",
                    "changes are carried as well, or no rows are",
                    "Remove it, or carry rows once: kind rows."
                );
            }

            if ((start.Tables ?? []).Any(rule => rule.Existing == ExistingRows.Merge) || start.Existing == ExistingRows.Merge)
            {
                yield return new DefinitionProblem(
                    "start.asOf",
                    "rows are merged with others, so past rows cannot be distinguished from them",
                    "Delete existing rows first, or refuse to start where there are some."
                );
            }

            if (NotOne("start.asOf", asOf) is { } notOne)
            {
                yield return notOne;
            }
        }

        if (ExistingProblem(start?.Existing ?? ExistingRows.Refuse, definition.Kind) is { } problem)
        {
            yield return new DefinitionProblem("start.existing", problem.Found, problem.Remedy);
        }

        for (var i = 0; i < (start?.Tables?.Count ?? 0); i++)
        {
            var rule = start!.Tables![i];
            if (string.IsNullOrWhiteSpace(rule.Tables))
            {
                yield return DefinitionRules.NoPattern($"start.tables[{i}].tables");
            }

            if (ExistingProblem(rule.Existing, definition.Kind) is { } wrong)
            {
                yield return new DefinitionProblem($"start.tables[{i}].existing", wrong.Found, wrong.Remedy);
            }
        }
    }

    /// <summary>Why existing rows cannot mean that where such is carried; null when they can.</summary>
    private static (string Found, string Remedy)? ExistingProblem(ExistingRows existing, StartKind kind) =>
        existing switch
        {
            ExistingRows.Keep when kind != StartKind.Changes => (
                "rows are loaded, and those that are there cannot stay beside them",
                "Choose refuse, empty, replace or merge, or carry changes only."
            ),
            ExistingRows.Merge when kind is StartKind.Changes or StartKind.Structure => (
                "no rows are loaded that could be merged in",
                "Choose another meaning, or carry rows."
            ),
            _ => null,
        };

    private static DefinitionProblem? NotOne(string field, StartPlace place) =>
        string.IsNullOrWhiteSpace(place.Position) == (place.Time is null)
            ? new DefinitionProblem(field, "neither or both of position and time", "Give exactly one of them; for now, give none.")
            : null;
}
