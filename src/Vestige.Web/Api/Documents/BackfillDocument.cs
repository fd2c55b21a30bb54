using Vestige.Engine.Backfilling;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>Rows that are being written as the source has them.</summary>
/// <param name="Table">The source's table, as schema.table.</param>
/// <param name="Columns">The target's columns that are written; empty for all.</param>
/// <param name="From">The first key; null from the first row on.</param>
/// <param name="Before">The key before which it ends; null to the last row.</param>
/// <param name="Done">Parts that are done.</param>
/// <param name="Of">Parts in all.</param>
/// <param name="Rows">Rows that were looked at.</param>
/// <param name="Written">Of these, rows that differed.</param>
/// <param name="By">Who asked for it.</param>
/// <param name="At">When.</param>
public sealed record BackfillDocument(
    string Table,
    IReadOnlyList<string> Columns,
    string? From,
    string? Before,
    int Done,
    int Of,
    long Rows,
    long Written,
    string By,
    [property: Time] string At
)
{
    /// <summary>As the engine has it.</summary>
    internal static BackfillDocument Made(Backfill backfill) =>
        new(
            backfill.Table.ToString(),
            backfill.Columns,
            backfill.From,
            backfill.Before,
            backfill.Progress.Done,
            backfill.Progress.Of,
            backfill.Progress.Rows,
            backfill.Progress.Written,
            backfill.By,
            StatusView.Rfc3339(backfill.At)
        );
}
