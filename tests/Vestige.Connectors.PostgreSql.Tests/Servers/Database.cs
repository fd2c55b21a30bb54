using System.Globalization;
using Npgsql;
using Vestige.Connectors.PostgreSql.Log;

namespace Vestige.Connectors.PostgreSql.Tests.Servers;

/// <summary>One database of a private server, as its DBA works on it.</summary>
public sealed class Database(Cluster cluster, string name)
{
    public Cluster Cluster => cluster;

    public string Name => name;

    public PostgreSqlSettings Settings(string user = Cluster.Dba, string password = Cluster.Password) =>
        new("127.0.0.1", cluster.Port, name, user, TlsMode.Off, null, password);

    public PostgreSqlSource Source(string user = Cluster.Dba, string password = Cluster.Password) =>
        new(Settings(user, password), Names, TimeProvider.System);

    public PostgreSqlTarget Target(string user = Cluster.Dba, string password = Cluster.Password) =>
        new(Settings(user, password), TimeProvider.System);

    public LogNames Names => LogNames.Of("test", name);

    public async Task RunAsync(string statements)
    {
        await using var connection = await OpenAsync();
        await using var command = new NpgsqlCommand(statements, connection) { CommandTimeout = 120 };
        await command.ExecuteNonQueryAsync();
    }

    public async Task<string> AskAsync(string statement)
    {
        await using var connection = await OpenAsync();
        await using var command = new NpgsqlCommand(statement, connection) { CommandTimeout = 120 };
        return Convert.ToString(await command.ExecuteScalarAsync(), CultureInfo.InvariantCulture) ?? "";
    }

    /// <summary>
    /// The same as <see cref="AskAsync"/>, for what is asked again and again: a session is kept for it, since a new one takes the server
    /// and us more than the answer. One that was ended meanwhile is replaced.
    /// </summary>
    public async Task<string> PollAsync(string statement)
    {
        await using var connection = new NpgsqlConnection($"{Address};Maximum Pool Size=4;Connection Idle Lifetime=10");
        try
        {
            await connection.OpenAsync();
            await using var command = new NpgsqlCommand(statement, connection) { CommandTimeout = 120 };
            return Convert.ToString(await command.ExecuteScalarAsync(), CultureInfo.InvariantCulture) ?? "";
        }
        catch (NpgsqlException exception)
            when (exception is not PostgresException || exception.SqlState == PostgresErrorCodes.AdminShutdown)
        {
            NpgsqlConnection.ClearPool(connection);
        }

        return await AskAsync(statement);
    }

    /// <summary>Runs the optional part of the preparation script, which makes the event trigger.</summary>
    public async Task RecordSchemaChangesAsync()
    {
        await using var connector = new PostgreSqlConnector(Settings(), Names, TimeProvider.System);
        await RunAsync((await connector.PrepareSourceAsync([], CancellationToken.None)).Optional!);
    }

    /// <summary>All rows of a table in the server's own text form, digested by the server.</summary>
    public Task<string> DigestAsync(string table) =>
        PollAsync(
            $"SELECT count(*) || ' ' || coalesce(md5(string_agg(t::text, E'\\n' ORDER BY t::text COLLATE \"C\")), '') FROM {table} t"
        );

    /// <summary>What each session in it does now and waits for.</summary>
    public Task<string> ActivityAsync() =>
        AskAsync(
            "SELECT string_agg(concat_ws(' ', application_name, state, wait_event, now() - query_start, left(query, 100)), ' | ') "
                + "FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()"
        );

    public async Task<NpgsqlConnection> OpenAsync()
    {
        var connection = new NpgsqlConnection($"{Address};Pooling=false");
        await connection.OpenAsync();
        return connection;
    }

    private string Address =>
        $"Host=127.0.0.1;Port={cluster.Port};Database={name};Username={Cluster.Dba};Password={Cluster.Password};Include Error "
        + "Detail=true";
}
