using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;

namespace Vestige.Engine.SchemaVersions;

/// <summary>A crossing that replicates a table, and where it names columns that a version of the table changed.</summary>
/// <param name="Crossing">The crossing's name.</param>
/// <param name="Named">The changed columns that its treatment names, by the names they had, and what it does with them.</param>
public sealed record AffectedCrossing(string Crossing, IReadOnlyList<(string Column, IReadOnlyList<string> Uses)> Named)
{
    /// <summary>The crossings of a source that replicate the table.</summary>
    /// <param name="definitions">Crossings of any source.</param>
    /// <param name="source">The connection.</param>
    /// <param name="version">The version.</param>
    public static IReadOnlyList<AffectedCrossing> Of(
        IEnumerable<CrossingDefinition> definitions,
        string source,
        SchemaVersion version
    )
    {
        ArgumentNullException.ThrowIfNull(version);
        return
        [
            .. definitions
                .Where(definition => definition.Source == source && definition.Tables.Takes(version.Table))
                .Select(definition => new AffectedCrossing(definition.Name, [.. Uses(definition, version.Table, version.Changes)])),
        ];
    }

    private static IEnumerable<(string Column, IReadOnlyList<string> Uses)> Uses(
        CrossingDefinition definition,
        TableName table,
        IReadOnlyList<SchemaChange> changes
    ) =>
        changes
            .Select(change =>
                change.Kind switch
                {
                    SchemaChangeKind.ColumnRenamed => change.Before,
                    SchemaChangeKind.ColumnDropped
                    or SchemaChangeKind.ColumnAdded
                    or SchemaChangeKind.TypeChanged
                    or SchemaChangeKind.NullabilityChanged
                    or SchemaChangeKind.DefaultChanged
                    or SchemaChangeKind.CollationChanged => change.Subject,
                    _ => null,
                }
            )
            .OfType<string>()
            .Distinct()
            .Select(column => (column, ColumnMentions.Of(definition.Treatment ?? [], table, column)))
            .Where(use => use.Item2.Count > 0);
}
