using Vestige.Connectors.PostgreSql.Log;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>What happened to a table between two looks at the catalogue, in words.</summary>
internal static class TableDifferences
{
    /// <summary>Null when nothing happened that matters to its rows.</summary>
    public static TableChange? Of(TableName table, KnownCatalogue known, CatalogueGlance now, LogNames names)
    {
        if (known.Find(table) is not { } old)
        {
            return null;
        }

        if (now.Tables.GetValueOrDefault(table) is not { } there || there.Number != old.Number)
        {
            var away = now.Names.TryGetValue(old.Number, out var called) ? $"it was renamed to {called}" : "it was dropped";
            var another = now.Tables.GetValueOrDefault(table);
            return new TableChange(
                table,
                another?.FormOf(table),
                new SchemaNotice(another is null ? away : $"{away}, and another table has its name now")
            );
        }

        List<string> done = there.Shape == old.Shape ? [] : [.. Columns(old, there)];
        List<string> values = [.. Types(known, now, there.Number)];
        if (MayBeRewritten(old, there) && !now.Survived.Contains(there.Number))
        {
            values.Add("its rows were rewritten, as by ALTER COLUMN ... TYPE, which the log does not show");
        }

        var unpublished = Publication(old, there, names, now.Refusal);
        List<string> all = [.. done, .. values, .. unpublished is null ? Array.Empty<string>() : [unpublished]];
        return all.Count == 0
            ? null
            : new TableChange(
                table,
                unpublished is null ? there.FormOf(table) : null,
                new SchemaNotice(string.Join("; ", all), values.Count > 0)
            );
    }

    /// <summary>
    /// A new file alone comes from VACUUM FULL, CLUSTER or a move as well, which touch no catalogue row of a column but those with a
    /// value for older rows. A conversion always writes one.
    /// </summary>
    public static bool MayBeRewritten(TableState old, TableState now) =>
        old.Number == now.Number
        && old.File != now.File
        && now.Columns.Any(column => old.Columns.Any(before => before.Number == column.Number && before.Writer != column.Writer));

    private static IEnumerable<string> Columns(TableState old, TableState now)
    {
        var (before, after) = (old.Columns.ToDictionary(column => column.Number), now.Columns.ToDictionary(column => column.Number));
        var dropped = old.Columns.Where(column => !after.ContainsKey(column.Number)).ToList();
        var added = now.Columns.Where(column => !before.ContainsKey(column.Number)).ToList();
        var again = dropped.Select(column => column.Name).Intersect(added.Select(column => column.Name)).ToHashSet();
        foreach (var name in again)
        {
            yield return $"column {name} was dropped and added again";
        }

        foreach (var column in dropped.Where(column => !again.Contains(column.Name)))
        {
            yield return $"column {column.Name} was dropped";
        }

        foreach (var column in added.Where(column => !again.Contains(column.Name)))
        {
            yield return $"{(column.Generated ? "generated column" : "column")} {column.Name} was added";
        }

        foreach (
            var (column, then) in now
                .Columns.Where(column => before.ContainsKey(column.Number))
                .Select(column => (column, before[column.Number]))
        )
        {
            if (column.Name != then.Name)
            {
                yield return $"column {then.Name} was renamed to {column.Name}";
            }

            if ((column.TypeNumber, column.Modifier) != (then.TypeNumber, then.Modifier))
            {
                yield return $"the type of column {column.Name} changed from {then.Type} to {column.Type}";
            }

            if (column.Generated != then.Generated)
            {
                yield return $"column {column.Name} is {(column.Generated ? "generated now" : "no longer generated")}";
            }
        }

        if (!old.Key.SequenceEqual(now.Key))
        {
            yield return now.Key.Count == 0 ? "its key was dropped" : "the columns of its key changed";
        }
        else if (old.Columns.Select(Plain).SequenceEqual(now.Columns.Select(Plain)))
        {
            yield return "the expression of a generated column changed";
        }
    }

    private static (short Number, string Name, uint Type, int Modifier, bool Generated) Plain(ColumnState column) =>
        (column.Number, column.Name, column.TypeNumber, column.Modifier, column.Generated);

    /// <summary>A label that was added gives no row another value.</summary>
    private static IEnumerable<string> Types(KnownCatalogue known, CatalogueGlance now, uint table)
    {
        foreach (var (number, _) in now.UsersOf.Where(pair => pair.Value.Contains(table)))
        {
            if (!known.Types.TryGetValue(number, out var old))
            {
                continue;
            }

            if (now.Types!.GetValueOrDefault(number) is not { } type)
            {
                yield return $"its type {old.Name} was dropped";
                continue;
            }

            foreach (var (label, before) in old.Values)
            {
                if (!type.Values.TryGetValue(label, out var after))
                {
                    yield return $"{before} of its type {type.Name} was dropped";
                }
                else if (after != before)
                {
                    yield return $"{before} of its type {type.Name} was renamed to {after}";
                }
            }

            foreach (var (_, added) in type.IsEnum ? [] : type.Values.Where(pair => !old.Values.ContainsKey(pair.Key)))
            {
                yield return $"{added} of its type {type.Name} was added";
            }
        }
    }

    private static string? Publication(TableState old, TableState now, LogNames names, string? refusal)
    {
        if (old.Whole is { } whole)
        {
            if (!old.Identified)
            {
                return null;
            }

            return (now.Whole == whole, now.Identified) switch
            {
                (true, true) => null,
                (true, false) =>
                    $"it has no replica identity any more, and {SchemaNotice.WritesFail} until it is taken out of the publication "
                        + $"{names.Publication}{(refusal is null ? "" : $", which Vestige may not do: {refusal}")}",
                (false, false) =>
                    $"it has no replica identity any more, and was taken out of the publication {names.Publication} so that its "
                        + "updates do not fail at the source",
                _ => $"it was taken out of the publication {names.Publication}, and changes made since then are lost",
            };
        }

        return old.Inserts is { } inserts && now.Inserts != inserts && now.Whole is null
            ? $"it was taken out of the publication {names.Inserts}, and rows inserted since then are lost"
            : null;
    }
}
