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
        if (now is { Guards: not null } && old.Guards is null)
        {
            // An earlier version of Vestige did not read them: what was there then is not known.
            old = old with { Guards = now.Guards };
        }

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
                IsCertain(old, now, before, after, changes) ? VersionCertainty.Derived : VersionCertainty.Undecided,
                after,
                what ?? string.Join("; ", changes.Select(change => change.Words))
            )
            {
                Before = before,
            };
    }

    /// <summary>
    /// What is told to crossings, with its steps where that is all that was done. What rows have that were written before a column was
    /// added is in the catalogue, unless it is NULL or the rows were written again into another file (PostgreSQL manual, ALTER TABLE,
    /// Notes); so is every row after a change of a type that needs more than another name for the same bytes.
    /// </summary>
    public static SchemaNotice WithSteps(SchemaNotice notice, TableState old, TableState now, ToldVersion version)
    {
        if (notice.Values || version is not { Certainty: not VersionCertainty.Undecided, Schema: { } after, Before: { } before })
        {
            return notice;
        }

        var steps = SchemaComparison.Steps(before, after);
        if (steps.Count == 0 && SchemaComparison.Between(before, after).Any(change => !change.KeepsRows))
        {
            return notice;
        }

        List<SchemaChange> all = [.. OfGuards(old, now), .. steps];
        return all.Count > 0 && AreKnown(steps, old, now)
            ? notice with
            {
                Changes = all,
                Before = old.FormOf(version.Table),
            }
            : notice;
    }

    /// <summary>
    /// What keeps rows out no longer, and what is called otherwise. What came keeps nothing out that the source has taken.
    /// </summary>
    private static IEnumerable<SchemaChange> OfGuards(TableState old, TableState now)
    {
        if (old.Guards is not { } were || now.Guards is not { } are)
        {
            yield break;
        }

        var there = are.ToDictionary(guard => guard.Number);
        foreach (var guard in were.Where(guard => !there.ContainsKey(guard.Number)))
        {
            yield return new SchemaChange(SchemaChangeKind.ConstraintDropped, guard.Name, Before: guard.Text);
        }

        foreach (var guard in were)
        {
            if (there.TryGetValue(guard.Number, out var same) && same.Name != guard.Name)
            {
                yield return new SchemaChange(
                    SchemaChangeKind.ConstraintRenamed,
                    same.Name,
                    guard.Name,
                    guard.IsIndex ? "an index" : "a constraint"
                );
            }
        }
    }

    private static bool AreKnown(IReadOnlyList<SchemaChange> steps, TableState old, TableState now)
    {
        var added = now.Columns.Where(column => old.Columns.All(before => before.Number != column.Number)).ToList();
        var asksFile = added.Count > 0 || steps.Any(step => step.Kind == SchemaChangeKind.TypeChanged);
        return (!asksFile || old.File == now.File) && added.TrueForAll(column => !column.HasMissing || column.Missing is not null);
    }

    /// <summary>
    /// Whether it is known what was done, and in what order as far as that matters to rows. Columns that came and went between the looks
    /// show in how many there ever were.
    /// </summary>
    private static bool IsCertain(
        TableState old,
        TableState now,
        TableSchema before,
        TableSchema after,
        IReadOnlyList<SchemaChange> changes
    )
    {
        var done = changes.Where(change => !change.KeepsRows).ToList();
        return (
                done.Count <= 1
                || done.TrueForAll(change => change.Kind == SchemaChangeKind.ColumnAdded)
                || SchemaComparison.Steps(before, after).Any(step => !step.KeepsRows)
            )
            && old.Attributes is { } were
            && now.Attributes is { } are
            && are - were == changes.Count(change => change.Kind == SchemaChangeKind.ColumnAdded);
    }
}
