using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Ports;

namespace Vestige.Tests.Shared.SchemaVersions;

/// <summary>Versions of tables in memory; they outlive an engine, not the test. Safe for several threads.</summary>
public sealed class MemorySchemaVersions : ISchemaVersionStore
{
    private readonly Lock gate = new();
    private readonly List<(string Source, SchemaVersion Version)> kept = [];

    /// <summary>Called before versions are kept; may throw, as a store does that cannot be written.</summary>
    public Action Keeping { get; set; } = () => { };

    /// <summary>All versions of all sources, in the order in which they were kept.</summary>
    public IReadOnlyList<SchemaVersion> Everything
    {
        get
        {
            lock (gate)
            {
                return [.. kept.Select(one => one.Version)];
            }
        }
    }

    /// <summary>All versions of a source, in the order in which they were kept.</summary>
    public IReadOnlyList<SchemaVersion> All(string source)
    {
        lock (gate)
        {
            return [.. kept.Where(one => one.Source == source).Select(one => one.Version)];
        }
    }

    public Task AddAsync(string source, IReadOnlyList<SchemaVersion> versions, CancellationToken cancellation)
    {
        Keeping();
        lock (gate)
        {
            foreach (var version in versions)
            {
                var number = kept.Count(one => one.Source == source && one.Version.Table == version.Table) + 1;
                kept.Add((source, version with { Number = number }));
            }
        }

        return Task.CompletedTask;
    }

    public Task<IReadOnlyList<VersionMark>> LatestAsync(string source, CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<VersionMark>>([
            .. All(source).GroupBy(version => version.Table).Select(same => VersionMark.Of(same.Last())),
        ]);

    public Task<IReadOnlyList<SchemaVersion>> OfTableAsync(string source, TableName table, CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<SchemaVersion>>([.. All(source).Where(version => version.Table == table).Reverse()]);

    public Task<SchemaVersion?> LatestOfAsync(string source, TableName table, CancellationToken cancellation) =>
        Task.FromResult(All(source).LastOrDefault(version => version.Table == table));

    public Task<(IReadOnlyList<SchemaVersion> Versions, int Found)> ListAsync(
        string source,
        string find,
        bool changesOnly,
        int skip,
        int take,
        CancellationToken cancellation
    )
    {
        var found = All(source)
            .Where(version => !changesOnly || version.What.Length > 0)
            .Where(version => version.Table.ToString().Contains(find, StringComparison.OrdinalIgnoreCase))
            .Reverse()
            .ToList();
        return Task.FromResult<(IReadOnlyList<SchemaVersion>, int)>(([.. found.Skip(skip).Take(take)], found.Count));
    }
}
