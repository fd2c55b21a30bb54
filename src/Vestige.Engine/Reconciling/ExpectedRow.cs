using Vestige.Core.Changes;

namespace Vestige.Engine.Reconciling;

/// <summary>A row as the target should have it, or as it is there.</summary>
/// <param name="Key">Its key columns only.</param>
/// <param name="Hash">The hash of what is compared.</param>
/// <param name="Times">How often; more than once only without a key.</param>
/// <param name="Row">The whole row, where it is at hand.</param>
internal readonly record struct ExpectedRow(Row Key, UInt128 Hash, int Times, Row Row);
