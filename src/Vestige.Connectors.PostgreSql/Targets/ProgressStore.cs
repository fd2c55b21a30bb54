using Npgsql;
using Vestige.Core.Loading;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>The progress of crossings, kept in two small tables beside the rows.</summary>
internal static class ProgressStore
{
    /// <summary>Statements that make the tables; each may be repeated.</summary>
    public static readonly IReadOnlyList<string> Make =
    [
        "CREATE SCHEMA IF NOT EXISTS vestige",
        """
            CREATE TABLE IF NOT EXISTS vestige.progress (
              crossing text PRIMARY KEY, epoch bigint NOT NULL, server text, timeline bigint, position bigint)
            """,
        """
            CREATE TABLE IF NOT EXISTS vestige.progress_table (
              crossing text NOT NULL REFERENCES vestige.progress ON DELETE CASCADE, schema text NOT NULL, name text NOT NULL,
              loaded boolean NOT NULL, position bigint NOT NULL, held_cause text, part text, PRIMARY KEY (crossing, schema, name))
            """,
        "ALTER TABLE vestige.progress_table ADD COLUMN IF NOT EXISTS part text",
        "ALTER TABLE vestige.progress_table ADD COLUMN IF NOT EXISTS into_tables text",
        "ALTER TABLE vestige.progress_table ADD COLUMN IF NOT EXISTS settled boolean NOT NULL DEFAULT false",
        "ALTER TABLE vestige.progress_table ADD COLUMN IF NOT EXISTS form text",
        "ALTER TABLE vestige.progress_table ADD COLUMN IF NOT EXISTS server text, ADD COLUMN IF NOT EXISTS timeline bigint",
        "ALTER TABLE vestige.progress ADD COLUMN IF NOT EXISTS token text",
        "ALTER TABLE vestige.progress_table ADD COLUMN IF NOT EXISTS reached bigint",
        "ALTER TABLE vestige.progress_table ADD COLUMN IF NOT EXISTS agreed bigint",
    ];

    /// <summary>Whether something is kept there, by this version or an earlier one.</summary>
    public static async Task<bool> IsThereAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand("SELECT to_regclass('vestige.progress_table') IS NOT NULL", connection);
        return (bool)(await command.ExecuteScalarAsync(cancellation))!;
    }

    /// <summary>Whether the tables are as this version writes them.</summary>
    public static async Task<bool> IsCurrentAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(
            "SELECT EXISTS (SELECT 1 FROM pg_attribute WHERE attrelid = to_regclass('vestige.progress_table') AND attname = 'agreed')",
            connection
        );
        return (bool)(await command.ExecuteScalarAsync(cancellation))!;
    }

    public static async Task<TargetProgress> ReadAsync(NpgsqlConnection connection, string crossing, CancellationToken cancellation)
    {
        if (!await IsThereAsync(connection, cancellation))
        {
            return TargetProgress.None;
        }

        LogIdentity? identity = null;
        LogPosition? position = null;
        string? token = null;
        await using (
            var command = new NpgsqlCommand(
                "SELECT server, timeline, position, to_jsonb(p) ->> 'token' FROM vestige.progress p WHERE crossing = $1",
                connection
            )
        )
        {
            command.Parameters.AddWithValue(crossing);
            await using var reader = await command.ExecuteReaderAsync(cancellation);
            if (!await reader.ReadAsync(cancellation))
            {
                return TargetProgress.None;
            }

            identity = reader.IsDBNull(0) ? null : new LogIdentity(reader.GetString(0), reader.GetInt64(1));
            position = reader.IsDBNull(2) ? null : new LogPosition((ulong)reader.GetInt64(2));
            token = reader.IsDBNull(3) ? null : reader.GetString(3);
        }

        return new TargetProgress(identity, position, await TablesAsync(connection, crossing, cancellation), token);
    }

    /// <summary>The statements that write the update, to be run with the commit.</summary>
    public static IEnumerable<NpgsqlBatchCommand> Write(string crossing, TargetProgress after, TargetProgress before, ProgressUpdate update)
    {
        if (after.Position != before.Position || after.Identity != before.Identity)
        {
            var head = new NpgsqlBatchCommand(
                "UPDATE vestige.progress SET server = $2, timeline = $3, position = $4, token = $5 WHERE crossing = $1"
            );
            Add(head, crossing, after.Identity?.Server, after.Identity?.Timeline, (long?)after.Position?.Offset, after.Token);
            yield return head;
        }

        foreach (var table in update.Tables)
        {
            var row = new NpgsqlBatchCommand(
                """
                INSERT INTO vestige.progress_table (crossing, schema, name, loaded, position, held_cause, part, into_tables, settled,
                    form, server, timeline, reached, agreed) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14)
                ON CONFLICT (crossing, schema, name) DO UPDATE SET loaded = excluded.loaded, position = excluded.position,
                    held_cause = excluded.held_cause, part = excluded.part, into_tables = excluded.into_tables,
                        settled = excluded.settled, form = excluded.form, server = excluded.server, timeline = excluded.timeline,
                        reached = excluded.reached, agreed = excluded.agreed
                """
            );
            Add(
                row,
                crossing,
                table.Table.Schema,
                table.Table.Name,
                table.Loaded,
                (long)table.Position.Offset,
                table.HeldCause,
                table.Part?.ToText(),
                table.Into,
                table.Settled,
                table.Fingerprint,
                table.Log?.Server,
                table.Log?.Timeline,
                (long?)table.Reached?.Offset,
                (long?)table.AgreedUpTo?.Offset
            );
            yield return row;
        }
    }

    private static void Add(NpgsqlBatchCommand command, params object?[] values)
    {
        foreach (var value in values)
        {
            command.Parameters.Add(
                value switch
                {
                    long number => new NpgsqlParameter { Value = number, NpgsqlDbType = NpgsqlTypes.NpgsqlDbType.Bigint },
                    bool truth => new NpgsqlParameter { Value = truth, NpgsqlDbType = NpgsqlTypes.NpgsqlDbType.Boolean },
                    _ => PostgreSqlDatabase.Text((string?)value),
                }
            );
        }
    }

    private static async Task<List<TableProgress>> TablesAsync(NpgsqlConnection connection, string crossing, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(
            "SELECT schema, name, loaded, position, held_cause, to_jsonb(t) ->> 'part', to_jsonb(t) ->> 'into_tables', "
                + "coalesce((to_jsonb(t) ->> 'settled')::boolean, false), to_jsonb(t) ->> 'form', to_jsonb(t) ->> 'server', "
                + "(to_jsonb(t) ->> 'timeline')::bigint, (to_jsonb(t) ->> 'reached')::bigint, "
                + "(to_jsonb(t) ->> 'agreed')::bigint FROM vestige.progress_table t "
                + "WHERE crossing = $1 ORDER BY schema COLLATE \"C\", name COLLATE \"C\"",
            connection
        );
        command.Parameters.AddWithValue(crossing);
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        var tables = new List<TableProgress>();
        while (await reader.ReadAsync(cancellation))
        {
            tables.Add(
                new TableProgress(
                    new TableName(reader.GetString(0), reader.GetString(1)),
                    reader.GetBoolean(2),
                    new LogPosition((ulong)reader.GetInt64(3)),
                    reader.IsDBNull(4) ? null : reader.GetString(4),
                    LoadCheckpoint.Parse(reader.IsDBNull(5) ? null : reader.GetString(5)),
                    reader.IsDBNull(6) ? null : reader.GetString(6),
                    reader.GetBoolean(7),
                    reader.IsDBNull(8) ? null : reader.GetString(8)
                )
                {
                    Log = reader.IsDBNull(9) ? null : new LogIdentity(reader.GetString(9), reader.GetInt64(10)),
                    Reached = reader.IsDBNull(11) ? null : new LogPosition((ulong)reader.GetInt64(11)),
                    AgreedUpTo = reader.IsDBNull(12) ? null : new LogPosition((ulong)reader.GetInt64(12)),
                }
            );
        }

        return tables;
    }
}
