using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>What two looks at the catalogue say of the versions of a table.</summary>
internal static class TableVersions
{
    /// <summary>The later version, its positions left out; null where there is no other version.</summary>
    /// <param name="table">The table, by the name under which it crosses.</param>
    /// <param name="old">As the look before had it.</param>
    /// <param name="now">As this one has it; null where there is no table of that name.</param>
    /// <param name="what">What is told to crossings; null where that is nothing.</param>
    public static ToldVersion? Between(TableName table, TableState old, TableState? now, string? what)
    {
        var before = old.Described(table);
        if (now is null || now.Number != old.Number)
        {
            return new ToldVersion(
                table,
                LogPosition.Zero,
                now is null ? VersionCertainty.Derived : VersionCertainty.Undecided,
                now?.Described(table),
                what ?? "it was dropped"
            )
            {
                Before = before,
            };
        }

        var after = now.Described(table);
        var changes = SchemaComparison.Between(before, after);
        return changes.Count == 0 && what is null
            ? null
            : new ToldVersion(
                table,
                LogPosition.Zero,
                IsOneChange(old, now, changes) ? VersionCertainty.Derived : VersionCertainty.Undecided,
                after,
                what ?? string.Join("; ", changes.Select(change => change.Words))
            )
            {
                Before = before,
            };
    }

    /// <summary>
    /// What is told to crossings, with the columns that were added where that is all that was done. Rows that were written before it have
    /// NULL in them: a column that had a default when it was added, and has none any more, either has a value for older rows in the
    /// catalogue, or the rows were written again into another file (PostgreSQL manual, ALTER TABLE, Notes).
    /// </summary>
    public static SchemaNotice Adding(SchemaNotice notice, TableState old, TableState now, ToldVersion version)
    {
        var mayHaveValues =
            notice.Values || old.File != now.File || now.Columns.Any(column => column.HasMissing && !Had(old, column));
        var adds =
            mayHaveValues || version is not { Certainty: VersionCertainty.Derived, Schema: not null, Before: not null }
                ? []
                : SchemaComparison.PlainAdditions(version.Before, version.Schema);
        return adds.Count == 0
            ? notice
            : notice with
            {
                Adds = adds,
                Before = SchemaFingerprint.Of(old.FormOf(version.Table)),
            };
    }

    private static bool Had(TableState old, ColumnState column) => old.Columns.Any(before => before.Number == column.Number);

    /// <summary>
    /// Whether at most one thing that matters to rows was done, or columns were only added. Columns that came and went between the looks
    /// show in how many there ever were.
    /// </summary>
    private static bool IsOneChange(TableState old, TableState now, IReadOnlyList<SchemaChange> changes) =>
        changes.Where(change => !change.KeepsRows).ToList() is var done
        && (done.Count <= 1 || done.TrueForAll(change => change.Kind == SchemaChangeKind.ColumnAdded))
        && old.Attributes is { } were
        && now.Attributes is { } are
        && are - were == changes.Count(change => change.Kind == SchemaChangeKind.ColumnAdded);
}
