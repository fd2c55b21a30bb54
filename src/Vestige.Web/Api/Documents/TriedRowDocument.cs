using Vestige.Core.Changes;
using Vestige.Engine.Rewinding;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>A change that another definition would have treated otherwise.</summary>
/// <param name="Effect">What it would have made of it.</param>
/// <param name="Mark">Insert, update or delete at the source.</param>
/// <param name="Key">The row's key; empty where a mask stands on it.</param>
/// <param name="CommittedAt">By the source's clock.</param>
/// <param name="Why">Why it is refused; null for other effects.</param>
public sealed record TriedRowDocument(
    [property: Choices(typeof(TrialEffect))] string Effect,
    string Mark,
    string Key,
    [property: Time] string CommittedAt,
    string? Why
)
{
    /// <summary>As the engine has it.</summary>
    internal static TriedRowDocument Of(TriedRow row) =>
        new(
            char.ToLowerInvariant($"{row.Effect}"[0]) + $"{row.Effect}"[1..],
            ChangeSymbols.Of(row.Kind),
            row.Key,
            StatusView.Rfc3339(row.CommittedAt),
            row.Why
        );
}
