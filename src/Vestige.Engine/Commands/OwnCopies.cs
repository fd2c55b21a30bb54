using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Treating;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>
/// Which tables of a target hold rows of a crossing alone, so that it may drop them. Reads nothing. Safe for several threads.
/// </summary>
/// <param name="registry">All crossings.</param>
/// <param name="treat">What happens to rows by a definition.</param>
internal sealed class OwnCopies(CrossingRegistry registry, Func<CrossingDefinition, CrossingTreatment> treat)
{
    /// <summary>What happens to rows by a definition.</summary>
    public CrossingTreatment TreatmentOf(CrossingDefinition definition) => treat(definition);

    /// <summary>The target's tables that rows of the source's tables go into, and that the crossing has made.</summary>
    public IReadOnlyList<TableName> Of(CrossingEntry entry, IReadOnlyList<TableName> tables) =>
        [
            .. Own(
                    entry.Stored.Definition,
                    entry.Progress with
                    {
                        Tables = [.. entry.Progress.Tables.Where(table => tables.Contains(table.Table))],
                    }
                )
                .Order(),
        ];

    /// <summary>Why those hold what others have brought, as a sentence; null where they do not.</summary>
    public string? WhyNotAlone(CrossingEntry entry, IReadOnlyList<TableName> tables)
    {
        var definition = entry.Stored.Definition;
        if (definition.Kind == StartKind.Changes)
        {
            return "The crossing replicates changes only, so its tables on the target were made by others.";
        }

        if (tables.FirstOrDefault(table => definition.ExistingFor(table) == ExistingRows.Merge) is { Name: not null } merged)
        {
            return $"The rows of {merged} were merged with rows that were on the target.";
        }

        var copies = Of(entry, tables);
        var staying = entry.Progress.Tables.Where(table => definition.Tables.Takes(table.Table) && !tables.Contains(table.Table)).ToList();
        if (copies.FirstOrDefault(Own(definition, entry.Progress with { Tables = staying }).Contains) is { Name: not null } shared)
        {
            return $"{shared} also holds rows of other tables of this crossing.";
        }

        foreach (var other in registry.All.Where(other => other != entry && other.Stored.Definition.Target == definition.Target))
        {
            if (copies.FirstOrDefault(Own(other.Stored.Definition, other.Progress).Contains) is { Name: not null } used)
            {
                return $"{used} also holds rows of crossing {other.Name}.";
            }
        }

        return null;
    }

    /// <summary>A crossing that writes one of these tables of a connection, and which; null where none does.</summary>
    public (string Crossing, TableName Table)? WriterOf(string connection, IReadOnlyList<TableName> tables)
    {
        foreach (var entry in registry.All.Where(entry => entry.Stored.Begun && entry.Stored.Definition.Target == connection))
        {
            if (tables.FirstOrDefault(Own(entry.Stored.Definition, entry.Progress).Contains) is { Name: not null } table)
            {
                return (entry.Name, table);
            }
        }

        return null;
    }

    /// <summary>Of tables that have left a crossing it still has a line.</summary>
    private IReadOnlySet<TableName> Own(CrossingDefinition definition, TargetProgress progress) =>
        treat(definition)
            .OwnTables(progress with { Tables = [.. progress.Tables.Where(table => definition.Tables.Takes(table.Table))] });
}
