using Npgsql;
using Vestige.Connectors.PostgreSql.Log;
using Vestige.Connectors.PostgreSql.Watching;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Readiness;

/// <summary>
/// The statements that a DBA runs for one role, on one server and for named tables. The role gets the right to read the log
/// and those tables, and two functions of the DBA's: one puts tables that the role may read into a publication whose name begins with
/// vestige_, the other takes tables out of such a publication, so that a table that lost its key does not refuse its own updates.
/// </summary>
internal static class PreparationScript
{
    public static async Task<Preparation> ForSourceAsync(
        NpgsqlConnection connection,
        PostgreSqlSettings settings,
        LogNames names,
        IReadOnlyList<TableName> tables,
        CancellationToken cancellation
    )
    {
        var role = Quote.Name(settings.User);
        var level = await LevelAsync(connection, cancellation);
        var server =
            level == "logical"
                ? "-- The server writes enough into its log already (wal_level = logical)."
                : "-- In force only after a restart of the server:\nALTER SYSTEM SET wal_level = 'logical';\n-- So that the server "
                    + "knows of it and says that it waits:\nSELECT pg_reload_conf();";
        var grants = string.Join(
            '\n',
            tables
                .GroupBy(table => table.Schema)
                .Select(schema =>
                    $"{Use(schema.Key, settings.User)}\n"
                    + string.Join('\n', schema.Select(table => $"GRANT SELECT ON {Quote.Name(table)} TO {role};"))
                )
        );
        var revokes = string.Join(
            '\n',
            tables
                .Select(table => $"REVOKE SELECT ON {Quote.Name(table)} FROM {role};")
                .Concat(
                    tables
                        .Select(table => table.Schema)
                        .Distinct()
                        .Where(schema => schema != "public")
                        .Select(schema => $"REVOKE USAGE ON SCHEMA {Quote.Name(schema)} FROM {role};")
                )
        );
        var script = $"""
            -- For reading tables of the database {settings.Database}. Run as a superuser in that database; safe to run twice.
            {server}
            CREATE SCHEMA IF NOT EXISTS vestige;
            -- What the undo needs to know: whether the role had the right before.
            DO $$ BEGIN
              IF obj_description('vestige'::regnamespace) IS NULL THEN
                EXECUTE format('COMMENT ON SCHEMA vestige IS %L',
                    'Vestige''s own. Replication right before: ' || (SELECT rolreplication FROM pg_roles WHERE rolname = {Quote.Literal(
                settings.User
            )}));
              END IF;
            END $$;
            ALTER ROLE {role} REPLICATION;
            {grants}
            GRANT USAGE ON SCHEMA vestige TO {role};
            {Carry}
            REVOKE ALL ON FUNCTION vestige.carry(text, text[], text[]) FROM PUBLIC;
            GRANT EXECUTE ON FUNCTION vestige.carry(text, text[], text[]) TO {role};
            {Release}
            REVOKE ALL ON FUNCTION vestige.release(text, text[], text[]) FROM PUBLIC;
            GRANT EXECUTE ON FUNCTION vestige.release(text, text[], text[]) TO {role};
            """;
        var undo = $"""
            -- Takes the script back. Remove the crossings of this source first: they drop the replication slot.
            DROP PUBLICATION IF EXISTS {Quote.Name(names.Publication)}, {Quote.Name(names.Inserts)};
            DO $$ BEGIN
              IF obj_description(to_regnamespace('vestige')) LIKE '%before: false' THEN
                ALTER ROLE {role} NOREPLICATION;
              END IF;
            END $$;
            {ChangeRecorder.Undo}
            DROP FUNCTION IF EXISTS vestige.carry(text, text[], text[]);
            DROP FUNCTION IF EXISTS vestige.release(text, text[], text[]);
            DROP SCHEMA IF EXISTS vestige;
            {revokes}
            -- If the script set wal_level; in force only after a restart of the server:
            -- ALTER SYSTEM RESET wal_level;
            """;
        var optional = $"""
            -- Has the database {settings.Database} tell its schema changes at their place in the log. Run as a superuser in that database,
            -- after the preparation script; safe to run twice. It needs PostgreSQL 14 or later.
            CREATE SCHEMA IF NOT EXISTS vestige;
            GRANT USAGE ON SCHEMA vestige TO {role};
            {ChangeRecorder.Script}
            GRANT SELECT ON {ChangeRecorder.Table} TO {role};
            """;
        return new Preparation(Tidy(script), Tidy(undo), level != "logical") { Optional = Tidy(optional) };
    }

    public static Preparation ForTarget(PostgreSqlSettings settings)
    {
        var role = Quote.Name(settings.User);
        var database = Quote.Name(settings.Database);
        return new Preparation(
            Tidy(
                $"""
                -- For writing tables into the database {settings.Database}. Run as a superuser in that database; safe to run twice.
                GRANT CREATE ON DATABASE {database} TO {role};
                {Use("public", settings.User)}
                GRANT CREATE ON SCHEMA public TO {role};
                -- Leaves triggers and references aside while rows are applied; from PostgreSQL 15 on. On older servers they fire.
                DO $$ BEGIN
                  IF current_setting('server_version_num')::int >= 150000 THEN
                    EXECUTE 'GRANT SET ON PARAMETER session_replication_role TO {role.Replace("'", "''", StringComparison.Ordinal)}';
                  END IF;
                END $$;
                """
            ),
            Tidy(
                $"""
                -- Takes the script back. Tables that crossings made stay.
                REVOKE CREATE ON DATABASE {database} FROM {role};
                REVOKE CREATE ON SCHEMA public FROM {role};
                DO $$ BEGIN
                  IF current_setting('server_version_num')::int >= 150000 THEN
                    EXECUTE 'REVOKE SET ON PARAMETER session_replication_role FROM {role.Replace("'", "''", StringComparison.Ordinal)}';
                  END IF;
                END $$;
                """
            ),
            NeedsRestart: false
        );
    }

    /// <summary>
    /// Everybody may use the schema public, unless someone took that away; a right of the role's own would outlast the undo.
    /// </summary>
    private static string Use(string schema, string user)
    {
        var grant = $"GRANT USAGE ON SCHEMA {Quote.Name(schema)} TO {Quote.Name(user)}";
        return schema == "public"
            ? $"DO $$ BEGIN IF NOT has_schema_privilege({Quote.Literal(user)}, 'public', 'USAGE') THEN EXECUTE "
                + $"{Quote.Literal(grant)}; END IF; END $$;"
            : $"{grant};";
    }

    private const string Carry = """
        CREATE OR REPLACE FUNCTION vestige.carry(publication text, schemas text[], tables text[]) RETURNS void
        LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog, pg_temp AS $carry$
        DECLARE
          i int;
          name regclass;
        BEGIN
          IF publication !~ '^vestige_[a-z0-9_]+$' THEN
            RAISE EXCEPTION 'vestige.carry may not touch the publication %', publication USING ERRCODE = '42501';
          END IF;
          IF NOT EXISTS (SELECT 1 FROM pg_publication p WHERE p.pubname = publication) THEN
            EXECUTE format('CREATE PUBLICATION %I WITH (publish = %L, publish_via_partition_root = true)', publication,
              CASE WHEN publication LIKE 'vestige\_inserts\_%' THEN 'insert' ELSE 'insert, update, delete, truncate' END);
          END IF;
          FOR i IN 1 .. coalesce(array_length(tables, 1), 0) LOOP
            name := format('%I.%I', schemas[i], tables[i])::regclass;
            IF NOT has_table_privilege(session_user, name, 'SELECT') THEN
              RAISE EXCEPTION '% may not read %', session_user, name USING ERRCODE = '42501';
            END IF;
            -- To publish updates of such a table would make them fail.
            IF publication NOT LIKE 'vestige\_inserts\_%' AND EXISTS (
              SELECT 1 FROM pg_class c WHERE c.oid = name AND c.relreplident <> 'f' AND NOT EXISTS (
                SELECT 1 FROM pg_index x WHERE x.indrelid = c.oid AND ((c.relreplident = 'd' AND x.indisprimary
                    AND x.indimmediate) OR (c.relreplident = 'i' AND x.indisreplident)))) THEN
              RAISE EXCEPTION '% has no replica identity; only its inserts can be published', name USING ERRCODE = '55000';
            END IF;
            IF NOT EXISTS (SELECT 1 FROM pg_publication p JOIN pg_publication_rel r ON r.prpubid = p.oid
                WHERE p.pubname = publication AND r.prrelid = name) THEN
              EXECUTE format('ALTER PUBLICATION %I ADD TABLE ONLY %I.%I', publication, schemas[i], tables[i]);
            END IF;
          END LOOP;
        END $carry$;
        """;

    private const string Release = """
        CREATE OR REPLACE FUNCTION vestige.release(publication text, schemas text[], tables text[]) RETURNS void
        LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog, pg_temp AS $release$
        DECLARE
          i int;
        BEGIN
          IF publication !~ '^vestige_[a-z0-9_]+$' THEN
            RAISE EXCEPTION 'vestige.release may not touch the publication %', publication USING ERRCODE = '42501';
          END IF;
          FOR i IN 1 .. coalesce(array_length(tables, 1), 0) LOOP
            IF EXISTS (
              SELECT 1 FROM pg_publication p JOIN pg_publication_rel r ON r.prpubid = p.oid JOIN pg_class c ON c.oid = r.prrelid
                  JOIN pg_namespace n ON n.oid = c.relnamespace
              WHERE p.pubname = publication AND n.nspname = schemas[i] AND c.relname = tables[i]) THEN
              EXECUTE format('ALTER PUBLICATION %I DROP TABLE ONLY %I.%I', publication, schemas[i], tables[i]);
            END IF;
          END LOOP;
        END $release$;
        """;

    private static async Task<string> LevelAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand("SHOW wal_level", connection);
        return (string)(await command.ExecuteScalarAsync(cancellation))!;
    }

    private static string Tidy(string script) => string.Join('\n', script.Split('\n').Where(check => check.Trim().Length > 0)) + "\n";
}
