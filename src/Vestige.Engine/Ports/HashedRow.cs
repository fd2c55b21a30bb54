using Vestige.Core.Changes;

namespace Vestige.Engine.Ports;

/// <summary>A row of which only its key and its hash are told.</summary>
/// <param name="Key">The key columns only, in key order; the memory stays valid.</param>
/// <param name="Hash">The hash of the columns that are compared.</param>
public readonly record struct HashedRow(Row Key, UInt128 Hash);
