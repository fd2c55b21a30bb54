using SQLitePCL;
using Vestige.Connectors.StandIn.Native;
using Vestige.Core.Loading;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.StandIn.Targets;

/// <summary>The progress of crossings, kept in two small tables beside the rows.</summary>
internal static class ProgressStore
{
    public static (long Term, TargetProgress Progress) Read(sqlite3 database, string crossing)
    {
        using var head = new Statement(
            database,
            "SELECT epoch, server, timeline, position, token FROM vestige_progress WHERE crossing = ?",
            crossing
        );
        head.Bind(1, crossing);
        if (!head.Step())
        {
            return (0, TargetProgress.None);
        }

        var identity = head.IsNull(1) ? null : new LogIdentity(head.Text(1), head.Integer(2));
        LogPosition? position = head.IsNull(3) ? null : new LogPosition((ulong)head.Integer(3));
        using var rows = new Statement(
            database,
            "SELECT schema, name, loaded, position, held_cause, part, into_tables, settled, form, server, timeline, reached, agreed FROM "
                + "vestige_progress_table WHERE crossing = ? ORDER BY schema, name",
            crossing
        );
        rows.Bind(1, crossing);
        var tables = new List<TableProgress>();
        while (rows.Step())
        {
            tables.Add(
                new TableProgress(
                    new TableName(rows.Text(0), rows.Text(1)),
                    rows.Integer(2) == 1,
                    new LogPosition((ulong)rows.Integer(3)),
                    rows.IsNull(4) ? null : rows.Text(4),
                    LoadCheckpoint.Parse(rows.IsNull(5) ? null : rows.Text(5)),
                    rows.IsNull(6) ? null : rows.Text(6),
                    !rows.IsNull(7) && rows.Integer(7) == 1,
                    rows.IsNull(8) ? null : rows.Text(8)
                )
                {
                    Log = rows.IsNull(9) ? null : new LogIdentity(rows.Text(9), rows.Integer(10)),
                    Reached = rows.IsNull(11) ? null : new LogPosition((ulong)rows.Integer(11)),
                    AgreedUpTo = rows.IsNull(12) ? null : new LogPosition((ulong)rows.Integer(12)),
                }
            );
        }

        return (head.Integer(0), new TargetProgress(identity, position, tables, head.IsNull(4) ? null : head.Text(4)));
    }

    /// <summary>Writes the update and returns the progress after it.</summary>
    public static TargetProgress Write(StandInTransaction transaction, string crossing, TargetProgress before, ProgressUpdate update)
    {
        var after = before.With(update);
        if (after.Position != before.Position || after.Identity != before.Identity)
        {
            transaction.Run(
                "UPDATE vestige_progress SET server = ?, timeline = ?, position = ?, token = ? WHERE crossing = ?",
                after.Identity?.Server,
                after.Identity?.Timeline,
                (long?)after.Position?.Offset,
                after.Token,
                crossing
            );
        }

        foreach (var table in update.Tables)
        {
            transaction.Run(
                "INSERT INTO vestige_progress_table (crossing, schema, name, loaded, position, held_cause, part, into_tables, "
                    + "settled, form, server, timeline, reached, agreed) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) "
                    + "ON CONFLICT (crossing, schema, name) DO UPDATE SET loaded = excluded.loaded, position = excluded.position, "
                    + "held_cause = excluded.held_cause, part = excluded.part, into_tables = excluded.into_tables, settled = "
                    + "excluded.settled, form = excluded.form, server = excluded.server, timeline = excluded.timeline, "
                    + "reached = excluded.reached, agreed = excluded.agreed",
                crossing,
                table.Table.Schema,
                table.Table.Name,
                table.Loaded ? 1 : 0,
                (long)table.Position.Offset,
                table.HeldCause,
                table.Part?.ToText(),
                table.Into,
                table.Settled ? 1 : 0,
                table.Fingerprint,
                table.Log?.Server,
                table.Log?.Timeline,
                (long?)table.Reached?.Offset,
                (long?)table.AgreedUpTo?.Offset
            );
        }

        return after;
    }
}
