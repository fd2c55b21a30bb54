using System.Collections.Immutable;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Following;

/// <summary>
/// Makes batches of what the spool holds, in the shape in which a target takes them. Gathers one at a time; used by one caller at a time.
/// </summary>
internal interface IBatchBuilder
{
    /// <summary>Whether it takes the parts of a transaction that is too large to be held whole, one by one as they come.</summary>
    bool TakesFragments { get; }

    /// <summary>The progress per table after what was added.</summary>
    ImmutableDictionary<TableName, TableProgress> Tables { get; }

    /// <summary>Adds the next transaction, or the next part of one. False when the batch has to end with it.</summary>
    bool TryAdd(SpooledFragment fragment);

    /// <summary>The batch of what was added; what is added from here on belongs to the next.</summary>
    /// <param name="fragments">What was added, at least one.</param>
    /// <param name="before">The progress per table before it.</param>
    /// <param name="treating">Time spent on it so far.</param>
    Batch Build(IReadOnlyList<SpooledFragment> fragments, ImmutableDictionary<TableName, TableProgress> before, TimeSpan treating);
}
