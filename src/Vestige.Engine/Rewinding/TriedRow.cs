using Vestige.Core.Changes;

namespace Vestige.Engine.Rewinding;

/// <summary>A change that another definition would have treated otherwise.</summary>
/// <param name="Effect">What it would have made of it; never <see cref="TrialEffect.Same"/>.</param>
/// <param name="Kind">Of the change at the source.</param>
/// <param name="Key">The row's key; empty where a mask stands on it, or there is none.</param>
/// <param name="CommittedAt">By the source's clock.</param>
/// <param name="Why">Why it is refused; null for other effects.</param>
public sealed record TriedRow(TrialEffect Effect, ChangeKind Kind, string Key, DateTimeOffset CommittedAt, string? Why);
