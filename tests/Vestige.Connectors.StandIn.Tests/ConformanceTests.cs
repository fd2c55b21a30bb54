using Microsoft.Data.Sqlite;
using Vestige.Connectors.StandIn.Bench;
using Vestige.Core.Changes;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Tests.Conformance;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>The stand-in under the suite for sources.</summary>
public sealed class SourceConformanceTests : SourceConformance
{
    protected override Task<ConnectedSystem> ConnectAsync() => ConnectedStandIn.MakeAsync();
}

/// <summary>The stand-in under the suite for targets.</summary>
public sealed class TargetConformanceTests : TargetConformance
{
    protected override Task<ConnectedSystem> ConnectAsync() => ConnectedStandIn.MakeAsync();
}

/// <summary>The stand-in under the suite for what keeps progress.</summary>
public sealed class ProgressConformanceTests : ProgressStoreConformance
{
    private ConnectedSystem system = null!;

    protected override async Task<IProgressStore> OpenAsync()
    {
        system = await ConnectedStandIn.MakeAsync();
        return system.Target.Progress;
    }

    protected override IProgressStore Again(IProgressStore store) => store;

    public override async ValueTask DisposeAsync()
    {
        await system.DisposeAsync();
        await base.DisposeAsync();
    }
}

/// <summary>A stand-in of its own under the suites.</summary>
public sealed class ConnectedStandIn : ConnectedSystem
{
    private readonly TemporaryFolder folder = new();
    private readonly StandInConnector connector;

    private ConnectedStandIn() =>
        connector = new StandInConnector(
            "s",
            () => StandInDatabase.Open(folder.File("s.db"), "s", new StandInOptions(), TimeProvider.System),
            TimeProvider.System
        );

    public override SourceSystem Source => connector.Source;

    public override TargetSystem Target => connector.Target;

    public override TableName Item => new("s", "item");

    public static async Task<ConnectedSystem> MakeAsync()
    {
        var made = new ConnectedStandIn();
        await made.RunAsync("CREATE TABLE item (id INTEGER PRIMARY KEY, v TEXT)", "CREATE TABLE other (id INTEGER PRIMARY KEY)");
        return made;
    }

    public override Task RunAsync(params string[] statements) =>
        StandInBench.RunAsync(connector.Database, string.Join("; ", statements), TimeProvider.System, CancellationToken.None);

    public override Task<IReadOnlyList<string>> RowsAsync()
    {
        using var connection = new SqliteConnection($"Data Source={folder.File("s.db")};Pooling=False;Mode=ReadOnly");
        connection.Open();
        using var command = connection.CreateCommand();
        command.CommandText = "SELECT id || '=' || v FROM item ORDER BY id";
        using var reader = command.ExecuteReader();
        var rows = new List<string>();
        while (reader.Read())
        {
            rows.Add(reader.GetString(0));
        }

        return Task.FromResult<IReadOnlyList<string>>(rows);
    }

    public override Row Row(long id, string? v)
    {
        var writer = new RowWriter();
        writer.Begin(2);
        writer.Integer(id);
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
        await connector.DisposeAsync();
        folder.Dispose();
    }
}
