using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Loading;

/// <summary>A load of some tables of a crossing. Run once; looked at from any thread.</summary>
public interface ILoad
{
    /// <summary>The tables being loaded, once the snapshot is open.</summary>
    IReadOnlyList<TableLoad> Tables { get; }

    /// <summary>When the first row was asked for; null before that.</summary>
    DateTimeOffset? StartedAt { get; }

    /// <summary>The position of the snapshot.</summary>
    LogPosition Position { get; }

    /// <summary>For how long it has waited for tables that follow, added up over its readers.</summary>
    TimeSpan Slowed => TimeSpan.Zero;

    /// <summary>How many of the tables continue where an earlier load was interrupted.</summary>
    int GoneOn { get; }

    /// <summary>Loads the tables; each counts as loaded, with the snapshot's position, once its rows are durable.</summary>
    /// <param name="names">The source's tables.</param>
    /// <param name="first">Whether the crossing has nothing else: it begins from the start then.</param>
    /// <param name="cancellation">Gives up between two blocks of rows.</param>
    Task RunAsync(IReadOnlyList<TableName> names, bool first, CancellationToken cancellation);
}
