using System.Collections.Immutable;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Loading;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Workers;

/// <summary>What a worker shows of itself at one moment.</summary>
internal sealed record WorkerView(
    bool Ended,
    CrossingFault? Fault,
    CrossingFault? Waiting,
    bool Following,
    ILoad? Load,
    LogPosition? Applied,
    DateTimeOffset? OldestInHand,
    ImmutableDictionary<TableName, TableProgress> Tables,
    SpooledPosition? Place,
    InHand? InHand = null,
    string? Resting = null
);
