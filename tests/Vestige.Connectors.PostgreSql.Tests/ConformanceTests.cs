using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Changes;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Tests.Conformance;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>PostgreSQL under the suite for sources.</summary>
public sealed class SourceConformanceTests(TwoServers servers) : SourceConformance
{
    protected override Task<ConnectedSystem> ConnectAsync() => ConnectedDatabase.MakeAsync(servers.A);
}

/// <summary>PostgreSQL under the suite for targets.</summary>
public sealed class TargetConformanceTests(TwoServers servers) : TargetConformance
{
    protected override Task<ConnectedSystem> ConnectAsync() => ConnectedDatabase.MakeAsync(servers.B);
}

/// <summary>PostgreSQL under the suite for what keeps progress.</summary>
public sealed class ProgressConformanceTests(TwoServers servers) : ProgressStoreConformance
{
    private ConnectedSystem system = null!;

    protected override async Task<IProgressStore> OpenAsync()
    {
        system = await ConnectedDatabase.MakeAsync(servers.B);
        return system.Target.Progress;
    }

    protected override IProgressStore Again(IProgressStore store) => store;

    public override async ValueTask DisposeAsync()
    {
        await system.DisposeAsync();
        await base.DisposeAsync();
    }
}

/// <summary>A database of a private server under the suites.</summary>
public sealed class ConnectedDatabase(Database database) : ConnectedSystem
{
    private readonly PostgreSqlConnector connector = new(database.Settings(), database.Names, TimeProvider.System);

    public override SourceSystem Source => connector.Source;

    public override TargetSystem Target => connector.Target;

    public override TableName Item => new("public", "item");

    public static async Task<ConnectedSystem> MakeAsync(Cluster cluster)
    {
        ArgumentNullException.ThrowIfNull(cluster);
        var database = await cluster.MakeDatabaseAsync();
        await database.RunAsync("CREATE TABLE item (id bigint PRIMARY KEY, v text); CREATE TABLE other (id int PRIMARY KEY)");
        return new ConnectedDatabase(database);
    }

    public override Task RunAsync(params string[] statements) => database.RunAsync($"BEGIN; {string.Join("; ", statements)}; COMMIT");

    public override async Task<IReadOnlyList<string>> RowsAsync()
    {
        var rows = await database.AskAsync("SELECT coalesce(string_agg(id || '=' || v, E'\\x01' ORDER BY id), '') FROM item");
        return rows.Length == 0 ? [] : rows.Split('\x01');
    }

    public override Row Row(long id, string? v)
    {
        var writer = new RowWriter();
        writer.Begin(2);
        writer.Text(id.ToString(System.Globalization.CultureInfo.InvariantCulture));
        if (v is null)
        {
            writer.Null();
        }
        else
        {
            writer.Text(v);
        }

        return writer.ToRow();
    }

    public override async ValueTask DisposeAsync()
    {
        await Source.Log.EndLogAsync(CancellationToken.None);
        await connector.DisposeAsync();
    }
}
