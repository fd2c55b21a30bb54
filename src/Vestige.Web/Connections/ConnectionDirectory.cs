using System.Collections.Concurrent;
using System.Text.Json;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.EntityFrameworkCore;
using Vestige.Core.Connections;
using Vestige.Core.Crossings;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.SpoolFiles;
using Vestige.Storage;
using Vestige.Storage.Entities;
using Vestige.Web.Hosting;

namespace Vestige.Web.Connections;

/// <summary>The connections of the data folder, and the systems behind them. Safe for several threads.</summary>
public sealed class ConnectionDirectory(
    StoreFactory factory,
    VestigeSettings settings,
    IEnumerable<IConnectorKind> kinds,
    IDataProtectionProvider protection,
    IProgressStore progress,
    TimeProvider clock
) : IConnections, IAsyncDisposable
{
    private readonly ConcurrentDictionary<string, ConnectionDefinition> known = new();
    private readonly ConcurrentDictionary<string, byte[]> secrets = new();
    private readonly ConcurrentDictionary<string, Lazy<IConnector>> open = new();
    private readonly SemaphoreSlim saving = new(1);
    private readonly IDataProtector protector = protection.CreateProtector("vestige.connection");

    /// <summary>The kinds of connection that this build has.</summary>
    public IReadOnlyList<IConnectorKind> Kinds { get; } = [.. kinds];

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
                record.Secret is not null
            );
            if (record.Secret is not null)
            {
                secrets[record.Name] = record.Secret;
            }
        }
    }

    /// <summary>What is wrong with a connection to be kept; empty when nothing is.</summary>
    /// <param name="connection">The connection.</param>
    /// <param name="secret">Its new secret; null for the one that is kept, which goes only where it was given for.</param>
    public IReadOnlyList<DefinitionProblem> Check(ConnectionDefinition connection, string? secret)
    {
        ArgumentNullException.ThrowIfNull(connection);
        var problems = new List<DefinitionProblem>();
        if (DefinitionRules.NameProblem(connection.Name) is { } name)
        {
            problems.Add(new DefinitionProblem("name", name, DefinitionRules.NameRemedy));
        }

        if (KindOf(connection.Kind) is not { } kind)
        {
            problems.Add(
                new DefinitionProblem(
                    "kind",
                    $"'{connection.Kind}' has no connector in this build",
                    $"Use {string.Join(" or ", Kinds.Select(one => one.Kind))}."
                )
            );
            return problems;
        }

        var byFields = SettingRules.Check(kind.Fields, connection.Settings, secret is null ? null : PartsOf(secret));
        problems.AddRange(byFields.Count > 0 ? byFields : kind.Check(connection.Settings));
        if (
            secret is null
            && Find(connection.Name) is { HasSecret: true } kept
            && (kept.Kind != connection.Kind || SettingRules.SecretGoesElsewhere(kind.Fields, kept.Settings, connection.Settings))
        )
        {
            problems.Add(
                new DefinitionProblem(
                    "secret",
                    "the secret that is kept was given for another server, role or encryption",
                    "Give the secret again."
                )
            );
        }

        return problems;
    }

    /// <summary>
    /// A connector for settings that are not kept, which have been checked; the caller disposes it. A null secret means the one that is
    /// kept.
    /// </summary>
    public IConnector Candidate(ConnectionDefinition connection, string? secret)
    {
        ArgumentNullException.ThrowIfNull(connection);
        return Make(connection, secret ?? Secret(connection.Name));
    }

    /// <summary>Keeps a connection, new or changed. The secret is encrypted; null leaves the one that is kept.</summary>
    /// <param name="connection">The connection, which has been checked.</param>
    /// <param name="secret">The new secret; null for the one that is kept.</param>
    /// <param name="cancellation">Gives up.</param>
    /// <param name="isNew">Throws <see cref="RequestRefusedException"/> where there is one of that name.</param>
    public async Task SaveAsync(ConnectionDefinition connection, string? secret, CancellationToken cancellation, bool isNew = false)
    {
        ArgumentNullException.ThrowIfNull(connection);
        await saving.WaitAsync(cancellation);
        try
        {
            await SaveAloneAsync(connection, secret, isNew, cancellation);
        }
        finally
        {
            saving.Release();
        }

        await CloseAsync(connection.Name);
    }

    private async Task SaveAloneAsync(ConnectionDefinition connection, string? secret, bool isNew, CancellationToken cancellation)
    {
        if (isNew && known.ContainsKey(connection.Name))
        {
            throw new RequestRefusedException($"There is a connection {connection.Name} already.") { Remedy = "Choose another name." };
        }

        byte[]? kept = null;
        await factory.ChangeAsync(
            $"Connection {connection.Name}",
            async store =>
            {
                var record = await store.Connections.FindAsync([connection.Name], cancellation);
                if (record is null)
                {
                    record = new ConnectionRecord
                    {
                        Name = connection.Name,
                        Kind = "",
                        Settings = "",
                        CreatedAt = clock.GetUtcNow(),
                    };
                    store.Connections.Add(record);
                }

                record.Kind = connection.Kind;
                record.Settings = JsonSerializer.Serialize(connection.Settings);
                record.Secret = kept = secret is null ? record.Secret : protector.Protect(System.Text.Encoding.UTF8.GetBytes(secret));
            },
            cancellation
        );
        known[connection.Name] = connection with { HasSecret = kept is not null };
        if (kept is not null)
        {
            secrets[connection.Name] = kept;
        }
    }

    /// <summary>Forgets a connection that no crossing names. What stays of it is said by its kind.</summary>
    public async Task RemoveAsync(string name, IReadOnlyList<string> usedBy, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(usedBy);
        if (usedBy.Count > 0)
        {
            throw new RequestRefusedException($"{name} is used by {string.Join(", ", usedBy)}.")
            {
                Remedy = "Remove those crossings first.",
            };
        }

        await factory.ChangeAsync(
            $"Connection {name}",
            async store =>
            {
                await store.SchemaVersions.Where(version => version.Source == name).ExecuteDeleteAsync(cancellation);
                await store.Connections.Where(record => record.Name == name).ExecuteDeleteAsync(cancellation);
            },
            cancellation
        );
        known.TryRemove(name, out _);
        secrets.TryRemove(name, out _);
        await CloseAsync(name);
    }

    /// <summary>The connections whose kind can do something, by name.</summary>
    public IReadOnlyList<ConnectionDefinition> Able(Capability capability) =>
        [.. All.Where(connection => KindOf(connection.Kind)?.Can.Contains(capability) == true)];

    /// <summary>A kind by its name; null where this build has none of that name.</summary>
    public IConnectorKind? KindOf(string kind) => Kinds.FirstOrDefault(candidate => candidate.Kind == kind);

    public SourceSystem Source(string connection) => new(connection, Open(connection));

    public TargetSystem Target(string connection) => new(connection, Open(connection), progress);

    /// <summary>A port of a connection that not every system has; null where it has none. Throws as <see cref="Source"/> does.</summary>
    public T? Find<T>(string connection)
        where T : class => Open(connection).Find<T>();

    public ISpoolFiles SpoolOf(string connection) => new SqliteSpoolFiles(settings.SpoolFolder(connection));

    public async ValueTask DisposeAsync()
    {
        saving.Dispose();
        foreach (var connector in open.Values.Where(connector => connector.IsValueCreated))
        {
            await connector.Value.DisposeAsync();
        }
    }

    private IConnector Open(string connection) =>
        known.ContainsKey(connection)
            ? open.GetOrAdd(connection, name => new Lazy<IConnector>(() => Make(known[name], Secret(name)))).Value
            : throw new RequestRefusedException($"There is no connection {connection}.") { Remedy = "Look at the list of connections." };

    private IConnector Make(ConnectionDefinition connection, string? secret) =>
        KindOf(connection.Kind) is { } kind
            ? kind.Open(
                new ConnectorContext(
                    connection.Name,
                    connection.Settings,
                    secret is null ? new Dictionary<string, string>() : PartsOf(secret)
                )
            )
            : throw new RequestRefusedException(
                $"{connection.Name} is of the kind '{connection.Kind}', which has no connector in this build."
            )
            {
                Remedy = "Use the build of Vestige that it was made with.",
            };

    private static Dictionary<string, string> PartsOf(string secret) => JsonSerializer.Deserialize<Dictionary<string, string>>(secret)!;

    private string? Secret(string connection) =>
        secrets.TryGetValue(connection, out var sealedSecret)
            ? System.Text.Encoding.UTF8.GetString(protector.Unprotect(sealedSecret))
            : null;

    private async Task CloseAsync(string connection)
    {
        if (open.TryRemove(connection, out var connector) && connector.IsValueCreated)
        {
            await connector.Value.DisposeAsync();
        }
    }
}
