using Vestige.Engine.Rewinding;

namespace Vestige.Web.Api.Documents;

/// <summary>What another definition would have made of the changes of one table.</summary>
/// <param name="Table">The source's table, as schema.table.</param>
/// <param name="Same">Changes of which the same would have come.</param>
/// <param name="LeftOut">Changes that were applied and would not have been.</param>
/// <param name="Added">Changes that were not applied and would have been.</param>
/// <param name="Changed">Changes of which other rows or values would have come.</param>
/// <param name="Refused">Changes for which the treatment has no value.</param>
/// <param name="Problem">Why the table could not be tried; null where it could.</param>
/// <param name="Examples">A few that would have been treated otherwise.</param>
public sealed record TriedTableDocument(
    string Table,
    long Same,
    long LeftOut,
    long Added,
    long Changed,
    long Refused,
    string? Problem,
    IReadOnlyList<TriedRowDocument> Examples
)
{
    /// <summary>As the engine has it.</summary>
    internal static TriedTableDocument Of(TriedTable tried)
    {
        long Count(TrialEffect effect) => tried.Counts.GetValueOrDefault(effect);
        return new(
            tried.Table.ToString(),
            Count(TrialEffect.Same),
            Count(TrialEffect.LeftOut),
            Count(TrialEffect.Added),
            Count(TrialEffect.Changed),
            Count(TrialEffect.Refused),
            tried.Problem,
            [.. tried.Examples.Select(TriedRowDocument.Of)]
        );
    }
}
