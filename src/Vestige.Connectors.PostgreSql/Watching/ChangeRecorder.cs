using Npgsql;

namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>
/// An event trigger at the source that notes each table that Vestige reads as it is after each statement that changes it: as a message in
/// the log, which stands between the rows before and after it (PostgreSQL manual, Event Triggers; pg_logical_emit_message), and as a row,
/// so that who looks at the catalogue knows which messages the log has yet to tell. A DBA makes it; without it the catalogue is looked at,
/// and where two looks do not say what was done, a table is held.
/// <para>
/// It never makes a statement fail: what goes wrong in it is a warning, and the look at the catalogue finds that something was not
/// recorded. It fires in sessions that leave other triggers aside too, and with the rights and settings of the one who made it.
/// </para>
/// </summary>
internal static class ChangeRecorder
{
    /// <summary>Of what is written; another one is not read.</summary>
    public const string Version = "1";

    /// <summary>Of the messages.</summary>
    public const string Prefix = "vestige.schema";

    public const string Table = "vestige.schema_changes";

    private const string Function = "vestige.record_schema_changes";
    private const string Trigger = "vestige_schema_changes";

    /// <summary>Messages are given to readers from version 14 on.</summary>
    public const string Script = $"""
        -- Notes each change of a replicated table at its place in the log. It never makes a statement fail.
        DO $$ BEGIN
          -- Numbers grow, also where the table was dropped and made again.
          EXECUTE format('CREATE TABLE IF NOT EXISTS {Table} (
            number bigint GENERATED ALWAYS AS IDENTITY (START WITH %s) PRIMARY KEY,
            relation oid NOT NULL,
            at timestamptz NOT NULL DEFAULT clock_timestamp(),
            told jsonb NOT NULL)', (extract(epoch FROM clock_timestamp()) * 1000)::bigint);
        END $$;
        CREATE INDEX IF NOT EXISTS schema_changes_of ON {Table} (relation, number);
        CREATE OR REPLACE FUNCTION {Function}() RETURNS event_trigger
        LANGUAGE plpgsql SECURITY DEFINER
        SET search_path = '' SET datestyle = 'ISO, MDY' SET intervalstyle = 'postgres' SET timezone = 'UTC' SET extra_float_digits = 3
        SET bytea_output = 'hex' SET lc_monetary = 'C' SET lc_numeric = 'C' SET xmlbinary = 'base64' SET array_nulls = on
        AS $record$
        DECLARE
          changed oid;
          entry bigint;
          tags text[];
          sent text := btrim(current_query(), E' \t\r\n;');
          statement text;
          told jsonb;
          facts jsonb;
          columns jsonb;
          guards jsonb;
        BEGIN
          FOR changed, tags IN
            SELECT t.oid, array_agg(DISTINCT d.command_tag) FROM pg_event_trigger_ddl_commands() d
            LEFT JOIN pg_index i ON d.classid = 'pg_class'::regclass AND i.indexrelid = d.objid
            LEFT JOIN pg_constraint k ON d.classid = 'pg_constraint'::regclass AND k.oid = d.objid
            JOIN pg_class t ON t.oid = coalesce(i.indrelid, k.conrelid, CASE WHEN d.classid = 'pg_class'::regclass THEN d.objid END)
            WHERE t.relkind IN ('r', 'p') AND EXISTS (
              SELECT FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid
              WHERE r.prrelid = t.oid AND p.pubname LIKE 'vestige\_%')
            GROUP BY t.oid
          LOOP
            BEGIN
              -- Sent with others, the text may hold what is not for everybody.
              statement := NULL;
              IF cardinality(tags) = 1 AND strpos(sent, ';') = 0 AND upper(left(sent, length(tags[1]))) = tags[1] THEN
                statement := left(sent, 4000);
              END IF;
              EXECUTE $facts$SELECT to_jsonb(f) FROM ({TableStatements.Facts}) f$facts$ INTO facts
                USING '{EmptyArray}'::text[], '{EmptyArray}'::text[], ARRAY[changed::text], NULL::text, NULL::text;
              EXECUTE $columns$SELECT coalesce(jsonb_agg(to_jsonb(f) ORDER BY f.number), '[]') FROM ({TableStatements.Columns}) f$columns$
                INTO columns USING ARRAY[changed::text];
              EXECUTE $guards$SELECT coalesce(jsonb_agg(to_jsonb(f) ORDER BY f.number), '[]') FROM ({TableStatements.Guards}) f$guards$
                INTO guards USING ARRAY[changed::text];
              entry := nextval(pg_get_serial_sequence('{Table}', 'number'));
              told := jsonb_build_object('version', '{Version}', 'number', entry, 'statement', statement,
                'facts', facts, 'columns', columns, 'guards', guards);
              INSERT INTO {Table} (number, relation, told) OVERRIDING SYSTEM VALUE VALUES (entry, changed, told);
              PERFORM pg_logical_emit_message(true, '{Prefix}', told::text);
              DELETE FROM {Table} WHERE ctid = ANY (ARRAY(
                SELECT o.ctid FROM {Table} o WHERE o.relation = changed AND o.at < clock_timestamp() - interval '30 days'
                FOR UPDATE SKIP LOCKED));
            EXCEPTION WHEN OTHERS THEN
              RAISE WARNING 'Vestige could not record a change of %: %', changed::regclass, SQLERRM;
            END;
          END LOOP;
        END $record$;
        REVOKE ALL ON FUNCTION {Function}() FROM PUBLIC;
        DO $$ BEGIN
          IF NOT EXISTS (SELECT FROM pg_event_trigger WHERE evtname = '{Trigger}') THEN
            CREATE EVENT TRIGGER {Trigger} ON ddl_command_end EXECUTE FUNCTION {Function}();
          END IF;
          ALTER EVENT TRIGGER {Trigger} ENABLE ALWAYS;
        END $$;
        """;

    public const string Undo = $"""
        DROP EVENT TRIGGER IF EXISTS {Trigger};
        DROP FUNCTION IF EXISTS {Function}();
        DROP TABLE IF EXISTS {Table};
        """;

    private const string EmptyArray = "{}";

    /// <summary>Whether the trigger fires for every session.</summary>
    public static async Task<bool> IsThereAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(
            $"SELECT EXISTS (SELECT FROM pg_event_trigger WHERE evtname = '{Trigger}' AND evtenabled = 'A')",
            connection
        );
        return (bool)(await command.ExecuteScalarAsync(cancellation))!;
    }

    /// <summary>Whether something may be recorded, and the role may read it.</summary>
    public static async Task<bool> IsReadableAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(
            "SELECT current_setting('server_version_num')::int4 >= 140000 AND EXISTS (SELECT FROM pg_class c JOIN pg_namespace n "
                + "ON n.oid = c.relnamespace WHERE n.nspname = 'vestige' AND c.relname = 'schema_changes' "
                + "AND has_schema_privilege(n.oid, 'USAGE') AND has_table_privilege(c.oid, 'SELECT'))",
            connection
        );
        return (bool)(await command.ExecuteScalarAsync(cancellation))!;
    }
}
