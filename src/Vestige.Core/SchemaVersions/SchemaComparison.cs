using Vestige.Core.Schemas;

namespace Vestige.Core.SchemaVersions;

/// <summary>
/// Finds what is different between two versions of a table. Columns are matched by the database's own numbers where both versions have
/// them; else by name, and then a column that was renamed looks like one that was dropped and another that was added.
/// </summary>
public static class SchemaComparison
{
    /// <summary>The differences, in the order: columns, key, unique keys, references, objects. Empty when there are none.</summary>
    public static IReadOnlyList<SchemaChange> Between(TableSchema before, TableSchema after)
    {
        ArgumentNullException.ThrowIfNull(before);
        ArgumentNullException.ThrowIfNull(after);
        var pairs = Pairs(before, after);
        return
        [
            .. pairs.SelectMany(pair => OfColumn(pair.Before, pair.After)),
            .. OfOrder(before, pairs),
            .. OfKey(before, after, pairs),
            .. OfLists(
                before.UniqueKeys.Select(Unique),
                after.UniqueKeys.Select(Unique),
                SchemaChangeKind.UniqueKeyAdded,
                SchemaChangeKind.UniqueKeyDropped
            ),
            .. OfLists(
                before.ForeignKeys.Select(Reference),
                after.ForeignKeys.Select(Reference),
                SchemaChangeKind.ReferenceAdded,
                SchemaChangeKind.ReferenceDropped
            ),
            .. OfObjects(before, after),
        ];
    }

    /// <summary>
    /// What can be made of another table after it, one step each: a column is added as one that takes NULL and has no default, and gets
    /// those after it. Empty where there is nothing of that kind, and where what lies between both versions cannot be told for certain: a
    /// change of the key, of several types, of what is computed, and several changes by which one name stands for two columns. Rows that
    /// are written between several such changes are known by the names of their columns.
    /// </summary>
    public static IReadOnlyList<SchemaChange> Steps(TableSchema before, TableSchema after)
    {
        ArgumentNullException.ThrowIfNull(before);
        ArgumentNullException.ThrowIfNull(after);
        var changes = Between(before, after);
        var ofRows = changes.Where(change => !change.KeepsRows).ToList();
        return ofRows.TrueForAll(change => IsStep(change, before, after)) && AreCertain(ofRows, before, after)
            ?
            [
                .. ofRows.SelectMany(change => OfStep(change, after)),
                .. changes.Where(change => change.Kind is SchemaChangeKind.NullabilityChanged or SchemaChangeKind.DefaultChanged),
            ]
            : [];
    }

    /// <summary>
    /// The columns of both versions side by side: those of the later in its order, then those that it no longer has. Each has at least one
    /// side.
    /// </summary>
    public static IReadOnlyList<(Column? Before, Column? After)> Pairs(TableSchema before, TableSchema after)
    {
        ArgumentNullException.ThrowIfNull(before);
        ArgumentNullException.ThrowIfNull(after);
        var byNumber = before.Columns.Concat(after.Columns).All(column => column.Id is not null);
        string IdentityOf(Column column) => byNumber ? $"{column.Id}" : column.Name;
        var earlier = before.Columns.ToDictionary(IdentityOf);
        var later = after.Columns.Select(IdentityOf).ToHashSet();
        return
        [
            .. after.Columns.Select(column => (earlier.GetValueOrDefault(IdentityOf(column)), (Column?)column)),
            .. before.Columns.Where(column => !later.Contains(IdentityOf(column))).Select(column => ((Column?)column, (Column?)null)),
        ];
    }

    private static bool IsStep(SchemaChange change, TableSchema before, TableSchema after) =>
        change.Kind switch
        {
            SchemaChangeKind.ColumnAdded => after.Columns[after.IndexOf(change.Subject)] is { Generated: false, KeyOrdinal: 0 },
            SchemaChangeKind.ColumnDropped => before.Columns[before.IndexOf(change.Subject)] is { Generated: false, KeyOrdinal: 0 },
            SchemaChangeKind.ColumnRenamed => !after.Columns[after.IndexOf(change.Subject)].Generated,
            SchemaChangeKind.TypeChanged => Pairs(before, after)
                .Any(pair => pair is { After.Generated: false, Before.Generated: false } && pair.After.Name == change.Subject),
            _ => false,
        };

    /// <summary>
    /// Without the database's own numbers a column that was renamed looks like one that was dropped and one that was added.
    /// </summary>
    private static bool AreCertain(List<SchemaChange> changes, TableSchema before, TableSchema after)
    {
        if (changes.TrueForAll(change => change.Kind == SchemaChangeKind.ColumnAdded))
        {
            return true;
        }

        var both = before.Columns.Concat(after.Columns).ToList();
        return both.TrueForAll(column => column.Id is not null)
            && (
                changes.Count == 1
                || (
                    changes.TrueForAll(change => change.Kind != SchemaChangeKind.TypeChanged)
                    && both.GroupBy(column => column.Name).All(same => same.DistinctBy(column => column.Id).Count() == 1)
                )
            );
    }

    private static IEnumerable<SchemaChange> OfStep(SchemaChange change, TableSchema after)
    {
        yield return change;
        if (change.Kind != SchemaChangeKind.ColumnAdded)
        {
            yield break;
        }

        var column = after.Columns[after.IndexOf(change.Subject)];
        if (!column.Nullable)
        {
            yield return new SchemaChange(SchemaChangeKind.NullabilityChanged, column.Name, "NULL", Nullability(column));
        }

        if (column.Default is { } value)
        {
            yield return new SchemaChange(SchemaChangeKind.DefaultChanged, column.Name, null, value);
        }
    }

    private static IEnumerable<SchemaChange> OfColumn(Column? before, Column? after)
    {
        if (before is null)
        {
            yield return new SchemaChange(SchemaChangeKind.ColumnAdded, after!.Name, After: Declared(after));
            yield break;
        }

        if (after is null)
        {
            yield return new SchemaChange(SchemaChangeKind.ColumnDropped, before.Name, Before: Typed(before));
            yield break;
        }

        if (before.Name != after.Name)
        {
            yield return new SchemaChange(SchemaChangeKind.ColumnRenamed, after.Name, before.Name, after.Name);
        }

        if (!string.Equals(before.Type, after.Type, StringComparison.OrdinalIgnoreCase) || before.Generated != after.Generated)
        {
            yield return new SchemaChange(SchemaChangeKind.TypeChanged, after.Name, Typed(before), Typed(after));
        }

        if (before.Nullable != after.Nullable)
        {
            yield return new SchemaChange(SchemaChangeKind.NullabilityChanged, after.Name, Nullability(before), Nullability(after));
        }

        if (before.Default != after.Default)
        {
            yield return new SchemaChange(SchemaChangeKind.DefaultChanged, after.Name, before.Default, after.Default);
        }

        if (before.Collation != after.Collation)
        {
            yield return new SchemaChange(SchemaChangeKind.CollationChanged, after.Name, before.Collation, after.Collation);
        }
    }

    /// <summary>Whether the columns that both versions have come in another order: the pairs have that of the later one.</summary>
    private static IEnumerable<SchemaChange> OfOrder(TableSchema before, IReadOnlyList<(Column? Before, Column? After)> pairs)
    {
        var both = pairs.Where(pair => pair is { Before: not null, After: not null }).ToList();
        var ordinals = both.Select(pair => before.IndexOf(pair.Before!.Name)).ToList();
        if (!ordinals.SequenceEqual(ordinals.Order()))
        {
            yield return new SchemaChange(
                SchemaChangeKind.ColumnsReordered,
                "",
                After: string.Join(", ", both.Select(pair => pair.After!.Name))
            );
        }
    }

    /// <summary>A key column under another name is the same key.</summary>
    private static IEnumerable<SchemaChange> OfKey(
        TableSchema before,
        TableSchema after,
        IReadOnlyList<(Column? Before, Column? After)> pairs
    )
    {
        var renamed = pairs
            .Where(pair => pair is { Before: not null, After: not null })
            .ToDictionary(pair => pair.Before!.Name, pair => pair.After!.Name);
        var was = before.KeyOrdinals.Select(ordinal => before.Columns[ordinal].Name).ToList();
        var now = after.KeyOrdinals.Select(ordinal => after.Columns[ordinal].Name).ToList();
        if (!was.Select(name => renamed.GetValueOrDefault(name, name)).SequenceEqual(now))
        {
            yield return new SchemaChange(SchemaChangeKind.KeyChanged, "key", Named(was), Named(now));
        }
    }

    private static IEnumerable<SchemaChange> OfLists(
        IEnumerable<(string Subject, string? Target)> before,
        IEnumerable<(string Subject, string? Target)> after,
        SchemaChangeKind added,
        SchemaChangeKind dropped
    )
    {
        var (was, now) = (before.ToList(), after.ToList());
        return
        [
            .. now.Except(was).Select(one => new SchemaChange(added, one.Subject, After: one.Target)),
            .. was.Except(now).Select(one => new SchemaChange(dropped, one.Subject, Before: one.Target)),
        ];
    }

    private static IEnumerable<SchemaChange> OfObjects(TableSchema before, TableSchema after)
    {
        var was = ObjectsOf(before);
        var now = ObjectsOf(after);
        foreach (var (name, text) in now)
        {
            if (!was.TryGetValue(name, out var old))
            {
                yield return new SchemaChange(SchemaChangeKind.ObjectAdded, name, After: text);
            }
            else if (old != text)
            {
                yield return new SchemaChange(SchemaChangeKind.ObjectChanged, name, old, text);
            }
        }

        foreach (var (name, text) in was.Where(one => !now.ContainsKey(one.Key)))
        {
            yield return new SchemaChange(SchemaChangeKind.ObjectDropped, name, Before: text);
        }
    }

    /// <summary>
    /// What belongs to the table beside its columns and is not said by them: types, sequences and schemas are others' as well, and the
    /// table's own statement says everything once more.
    /// </summary>
    private static SortedDictionary<string, string> ObjectsOf(TableSchema schema) =>
        new(
            schema
                .Objects.Where(one => one.Stage is SchemaStage.Key or SchemaStage.Index or SchemaStage.Reference or SchemaStage.Within)
                .GroupBy(one => one.Name)
                .ToDictionary(same => same.Key, same => string.Join("; ", same.Select(one => one.Text))),
            StringComparer.Ordinal
        );

    private static (string Subject, string? Target) Reference(ForeignKey key) =>
        (string.Join(", ", key.Columns), $"{key.References} ({string.Join(", ", key.ReferencedColumns)})");

    private static (string Subject, string? Target) Unique(UniqueKey key) => (string.Join(", ", key.Columns), null);

    private static string? Named(IReadOnlyList<string> columns) => columns.Count == 0 ? null : string.Join(", ", columns);

    private static string Nullability(Column column) => column.Nullable ? "NULL" : "NOT NULL";

    private static string Declared(Column column) =>
        $"{Typed(column)}{(column.Nullable ? "" : " not null")}{(column.Default is { } value ? $" default {value}" : "")}";

    private static string Typed(Column column) =>
        $"{(column.Type.Length == 0 ? "no type" : column.Type)}{(column.Generated ? ", generated" : "")}";
}
