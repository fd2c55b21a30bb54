using System.Globalization;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>
/// Finds the form of rows by what the log tells of their columns: names, types and order, and no numbers. They are of the table as it
/// is, or as it was before one of the last changes, or between two statements of one of those. Which columns they are is known where
/// only one of these fits, or all that fit are made of the same columns. What was before a change is out of the question for
/// transactions after the look that found it: the change waited for the locks of those that had written rows before.
/// </summary>
internal static class KnownForms
{
    /// <summary>Statements of one change of which every order is thought of; of more, only what was before and after all.</summary>
    private const int MostStatements = 6;

    /// <summary>The form of rows of a transaction; or whether that cannot be said, since several fit.</summary>
    public static (TableSchema? Form, bool FitSeveral) Find(
        TableName table,
        TableState now,
        IReadOnlyList<(string Name, uint Type, int Modifier, bool IsKey)> told,
        LogPosition position
    )
    {
        var fitting = Of(now, position).Where(state => Fits(state, told)).ToList();
        var isOne = fitting.Select(state => string.Join(',', Crossing(state).Select(column => column.Number))).Distinct().Count() == 1;
        return (isOne ? fitting[0].FormOf(table) : null, fitting.Count > 0 && !isOne);
    }

    private static bool Fits(TableState state, IReadOnlyList<(string Name, uint Type, int Modifier, bool IsKey)> told) =>
        told.Select(column => (column.Name, column.Type, column.Modifier))
            .SequenceEqual(Crossing(state).Select(column => (column.Name, column.TypeNumber, column.Modifier)));

    private static IEnumerable<ColumnState> Crossing(TableState state) => state.Columns.Where(column => !column.Generated);

    /// <summary>The table as it is, then as it was, the latest first, as far as it can have been that at a position.</summary>
    private static IEnumerable<TableState> Of(TableState now, LogPosition position)
    {
        yield return now;
        for (var (state, former) = (now, now.Former); former is not null; (state, former) = (former, former.Former))
        {
            if (position > state.Found)
            {
                yield break;
            }

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
