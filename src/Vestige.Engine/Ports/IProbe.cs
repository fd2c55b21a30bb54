using Vestige.Core.Readiness;

namespace Vestige.Engine.Ports;

/// <summary>A system that can be reached and told from others. Safe for several threads.</summary>
public interface IProbe
{
    /// <summary>
    /// A text that is the same for every way of reaching one system. A copy of a database's files may say the same of itself.
    /// </summary>
    Task<string> GetIdentityAsync(CancellationToken cancellation);

    /// <summary>
    /// Whether another connection of the same kind reaches the same system, proved by a lock that one of them takes and the
    /// other sees. Asked where <see cref="GetIdentityAsync"/> of both is the same.
    /// </summary>
    Task<bool> IsSameAsync(IProbe other, CancellationToken cancellation);

    /// <summary>Each hop of the connection proved in turn; ends at the first that fails.</summary>
    Task<IReadOnlyList<ReadinessCheck>> TestAsync(CancellationToken cancellation);
}
