using System.Globalization;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>
/// Finds the form of rows by what the log tells of their columns: names, types and order, and no numbers. They are of the table as it
/// is, or as it was before one of the last changes, or between two statements of one of those. Which columns they are is known where
/// only one of these fits, or all that fit are made of the same columns.
/// </summary>
internal static class KnownForms
{
    /// <summary>Statements of one change of which every order is thought of; of more, only what was before and after all.</summary>
    private const int MostStatements = 6;

    /// <summary>Null where none fits, or several with other columns.</summary>
    public static TableSchema? Find(
        TableName table,
        TableState now,
        IReadOnlyList<(string Name, uint Type, int Modifier, bool IsKey)> told
    )
    {
        var fitting = Of(now).Where(state => Fits(state, told)).ToList();
        var isOne = fitting.Select(state => string.Join(',', Crossing(state).Select(column => column.Number))).Distinct().Count() == 1;
        return isOne ? fitting[0].FormOf(table) : null;
    }

    private static bool Fits(TableState state, IReadOnlyList<(string Name, uint Type, int Modifier, bool IsKey)> told) =>
        told.Select(column => (column.Name, column.Type, column.Modifier))
            .SequenceEqual(Crossing(state).Select(column => (column.Name, column.TypeNumber, column.Modifier)));

    private static IEnumerable<ColumnState> Crossing(TableState state) => state.Columns.Where(column => !column.Generated);

    /// <summary>The table as it is, then as it was, the latest first.</summary>
    private static IEnumerable<TableState> Of(TableState now)
    {
        yield return now;
        for (var (state, former) = (now, now.Former); former is not null; (state, former) = (former, former.Former))
        {
            foreach (var between in Between(former, state))
            {
                yield return between;
            }

            yield return former;
        }
    }

    /// <summary>With some of the columns as they were before and some as they were after, in each way.</summary>
    private static IEnumerable<TableState> Between(TableState former, TableState after)
    {
        var (were, are) = (former.Columns.ToDictionary(one => one.Number), after.Columns.ToDictionary(one => one.Number));
        var changed = were
            .Keys.Union(are.Keys)
            .Where(number => !IsSame(were.GetValueOrDefault(number), are.GetValueOrDefault(number)))
            .Order()
            .ToList();
        for (var done = 1; changed.Count <= MostStatements && done < (1 << changed.Count) - 1; done++)
        {
            var columns = were
                .Keys.Union(are.Keys)
                .Order()
                .Select(number =>
                    changed.IndexOf(number) is >= 0 and var place && (done >> place & 1) == 0
                        ? were.GetValueOrDefault(number)
                        : are.GetValueOrDefault(number)
                )
                .OfType<ColumnState>()
                .ToList();
            var which = string.Create(CultureInfo.InvariantCulture, $"between-{former.Generation}-{done}");
            yield return former with { Columns = columns, Shape = which };
        }
    }

    private static bool IsSame(ColumnState? before, ColumnState? after) =>
        before is not null
        && after is not null
        && (before.Name, before.TypeNumber, before.Modifier) == (after.Name, after.TypeNumber, after.Modifier);
}
