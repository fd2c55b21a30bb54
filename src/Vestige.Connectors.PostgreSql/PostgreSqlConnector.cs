using Vestige.Connectors.PostgreSql.Log;
using Vestige.Connectors.PostgreSql.Readiness;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql;

/// <summary>One database of a PostgreSQL server.</summary>
public sealed class PostgreSqlConnector(PostgreSqlSettings settings, LogNames names, TimeProvider clock) : IConnector, IPreparation
{
    private readonly PostgreSqlSource source = new(settings, names, clock);
    private readonly PostgreSqlTarget target = new(settings, clock);

    public T? Find<T>()
        where T : class => this as T ?? source as T ?? target as T;

    public Task<Preparation> PrepareSourceAsync(IReadOnlyList<TableName> tables, CancellationToken cancellation) =>
        source.UseAsync(
            "Making the preparation script",
            (connection, stop) => PreparationScript.ForSourceAsync(connection, settings, names, tables, stop),
            cancellation
        );

    public Task<Preparation> PrepareTargetAsync(CancellationToken cancellation) => Task.FromResult(PreparationScript.ForTarget(settings));

    public async ValueTask DisposeAsync()
    {
        await source.DisposeAsync();
        await target.DisposeAsync();
    }
}
