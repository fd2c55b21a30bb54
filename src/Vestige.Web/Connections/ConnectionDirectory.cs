using System.Collections.Concurrent;
using System.Text.Json;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.EntityFrameworkCore;
using Vestige.Connectors.StandIn;
using Vestige.Connectors.StandIn.Sources;
using Vestige.Connectors.StandIn.Targets;
using Vestige.Core.Crossings;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.SpoolFiles;
using Vestige.Storage;
using Vestige.Storage.Entities;
using Vestige.Web.Hosting;

namespace Vestige.Web.Connections;

/// <summary>The connections of the data folder, and the systems behind them. Safe for several threads.</summary>
public sealed class ConnectionDirectory(StoreFactory factory, VestigeSettings settings, IDataProtectionProvider protection, TimeProvider clock) : IConnections, IAsyncDisposable
{
    private readonly ConcurrentDictionary<string, ConnectionDefinition> known = new();
    private readonly ConcurrentDictionary<string, Lazy<StandInDatabase>> standIns = new();
    private readonly IDataProtector protector = protection.CreateProtector("vestige.connection");

    /// <summary>By name.</summary>
    public IReadOnlyList<ConnectionDefinition> All => [.. known.Values.OrderBy(connection => connection.Name, StringComparer.Ordinal)];

    public ConnectionDefinition? Find(string name) => known.GetValueOrDefault(name);

    /// <summary>Reads what is stored; to be called once, before anything else.</summary>
    public async Task LoadAsync(CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        foreach (var record in await store.Connections.AsNoTracking().ToListAsync(cancellation))
        {
            known[record.Name] = new ConnectionDefinition(
                record.Name,
                record.Kind,
                JsonSerializer.Deserialize<Dictionary<string, string>>(record.Settings)!,
                record.Secret is not null);
        }
    }

    /// <summary>What is wrong with a connection to be kept; empty when nothing is.</summary>
    public static IReadOnlyList<DefinitionProblem> Check(ConnectionDefinition connection)
    {
        ArgumentNullException.ThrowIfNull(connection);
        var problems = new List<DefinitionProblem>();
        if (DefinitionRules.NameProblem(connection.Name) is { } name)
        {
            problems.Add(new DefinitionProblem("name", name, DefinitionRules.NameMend));
        }

        if (connection.Kind != ConnectionDefinition.StandIn)
        {
            problems.Add(new DefinitionProblem("kind", $"'{connection.Kind}' has no connector in this build", "Use stand-in."));
        }
        else if (connection.Settings.Count > 0)
        {
            problems.Add(new DefinitionProblem($"settings.{connection.Settings.Keys.First()}", "a stand-in has no settings", "Leave it out."));
        }

        return problems;
    }

    /// <summary>Keeps a connection, new or changed. The secret is encrypted; null leaves the one that is kept.</summary>
    public async Task SaveAsync(ConnectionDefinition connection, string? secret, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(connection);
        await using var store = factory.CreateDbContext();
        var record = await store.Connections.FindAsync([connection.Name], cancellation);
        if (record is null)
        {
            record = new ConnectionRecord { Name = connection.Name, Kind = "", Settings = "", CreatedAt = clock.GetUtcNow() };
            store.Connections.Add(record);
        }

        record.Kind = connection.Kind;
        record.Settings = JsonSerializer.Serialize(connection.Settings);
        record.Secret = secret is null ? record.Secret : protector.Protect(System.Text.Encoding.UTF8.GetBytes(secret));
        await store.SaveChangesAsync(cancellation);
        known[connection.Name] = connection with { HasSecret = record.Secret is not null };
    }

    /// <summary>Forgets a connection that no crossing names. A stand-in's file stays.</summary>
    public async Task RemoveAsync(string name, IReadOnlyList<string> usedBy, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(usedBy);
        if (usedBy.Count > 0)
        {
            throw new RequestRefusedException($"{name} is used by {string.Join(", ", usedBy)}.") { Mend = "Remove those crossings first." };
        }

        await using var store = factory.CreateDbContext();
        await store.Connections.Where(record => record.Name == name).ExecuteDeleteAsync(cancellation);
        known.TryRemove(name, out _);
        if (standIns.TryRemove(name, out var open) && open.IsValueCreated)
        {
            await open.Value.DisposeAsync();
        }
    }

    public ISource Source(string connection) => new StandInSource(StandIn(connection), clock);

    public ITarget Target(string connection) => new StandInTarget(StandIn(connection), clock);

    public ISpoolFiles SpoolOf(string connection) => new SqliteSpoolFiles(settings.SpoolFolder(connection));

    /// <summary>The stand-in behind a connection. Throws <see cref="RequestRefusedException"/> when there is none.</summary>
    public StandInDatabase StandIn(string connection)
    {
        if (!known.ContainsKey(connection))
        {
            throw new RequestRefusedException($"There is no connection {connection}.") { Mend = "Look at the list of connections." };
        }

        return standIns.GetOrAdd(connection, name => new Lazy<StandInDatabase>(() => Open(name))).Value;
    }

    public async ValueTask DisposeAsync()
    {
        foreach (var open in standIns.Values.Where(open => open.IsValueCreated))
        {
            await open.Value.DisposeAsync();
        }
    }

    private StandInDatabase Open(string name)
    {
        var path = settings.StandInPath(name);
        Directory.CreateDirectory(Path.GetDirectoryName(path)!);
        return StandInDatabase.Open(path, name, new StandInOptions(), clock);
    }
}
