using Vestige.Connectors.PostgreSql.Log;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql;

/// <summary>One database of a PostgreSQL server.</summary>
public sealed class PostgreSqlConnector(PostgreSqlSettings settings, LogNames names, TimeProvider clock) : IConnector
{
    private readonly PostgreSqlSource source = new(settings, names, clock);
    private readonly PostgreSqlTarget target = new(settings, clock);

    public ISource Source => source;

    public ITarget Target => target;

    public async ValueTask DisposeAsync()
    {
        await source.DisposeAsync();
        await target.DisposeAsync();
    }
}
