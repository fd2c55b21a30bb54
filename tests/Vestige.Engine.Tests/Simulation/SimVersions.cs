using System.Globalization;
using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Tests.Simulation;

/// <summary>
/// Which versions the target must have where every version of a row stays: told from the source's whole history in plain code. A
/// table's versions begin with the state that was loaded.
/// </summary>
public static class SimVersions
{
    private const string Holds = "infinity";

    /// <summary>The target's rows as of a position, by table and key.</summary>
    public static Dictionary<(TableName Table, string Key), Row> At(
        IReadOnlyList<SimSourceState.Entry> history,
        IReadOnlyList<TableProgress> tables,
        LogPosition position
    )
    {
        var expected = new Dictionary<(TableName, string), Row>();
        foreach (var progress in tables)
        {
            var (rows, since) = (new Dictionary<long, string>(), new Dictionary<long, string?>());
            foreach (var entry in history.Where(entry => entry.Position <= position))
            {
                var before = new Dictionary<long, string>(rows);
                foreach (var change in entry.Changes.Where(change => SimRows.All[change.Relation].Name == progress.Table))
                {
                    Take(rows, change);
                }

                foreach (var key in before.Keys.Union(rows.Keys).ToList())
                {
                    var (had, has) = (before.GetValueOrDefault(key), rows.GetValueOrDefault(key));
                    if (had == has)
                    {
                        continue;
                    }

                    if (had is not null && entry.Position > progress.Position)
                    {
                        Add(expected, progress.Table, key, had, since[key], Written(entry.CommittedAt));
                    }

                    since[key] = entry.Position > progress.Position ? Written(entry.CommittedAt) : null;
                }
            }

            foreach (var (key, value) in rows)
            {
                Add(expected, progress.Table, key, value, since[key], Holds);
            }
        }

        return expected;
    }

    private static void Take(Dictionary<long, string> rows, RowChange change)
    {
        if (!change.Before.IsNone)
        {
            rows.Remove(change.Before.IntegerAt(0));
        }

        if (!change.After.IsNone)
        {
            rows[change.After.IntegerAt(0)] = change.After.TextAt(1);
        }
    }

    private static void Add(Dictionary<(TableName, string), Row> expected, TableName table, long key, string value, string? from, string to)
    {
        var writer = new RowWriter();
        writer.Begin(4);
        writer.Integer(key);
        writer.Text(value);
        if (from is null)
        {
            writer.Null();
        }
        else
        {
            writer.Text(from);
        }

        writer.Text(to);
        expected.Add((table, $"{key}, {to}"), writer.ToRow());
    }

    /// <summary>The time as PostgreSQL writes it in UTC: as many digits behind the second as are needed.</summary>
    private static string Written(DateTimeOffset at) =>
        at.UtcDateTime.ToString("yyyy-MM-dd HH:mm:ss.FFFFFF'+00'", CultureInfo.InvariantCulture);
}
