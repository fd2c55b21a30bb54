using Vestige.Core.Positions;
using Vestige.Core.SchemaVersions;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>A version of a source's table.</summary>
/// <param name="Table">The table, as schema.table.</param>
/// <param name="Number">From 1 on within the table.</param>
/// <param name="From">Changes of rows after this position are of this version.</param>
/// <param name="NotBefore">The change lies between this position and <paramref name="From"/>; null where it lies at that one.</param>
/// <param name="Known">How that is known.</param>
/// <param name="What">What was done; empty for a table that was found.</param>
/// <param name="Changes">What is different from the version before.</param>
/// <param name="NoticedAt">When Vestige noticed it.</param>
/// <param name="Columns">Its columns; null where there is no such table any more, and in lists.</param>
/// <param name="Statement">The statement that made it, for display; null where the source does not tell it.</param>
public sealed record SchemaVersionDocument(
    string Table,
    int Number,
    string From,
    string? NotBefore,
    [property: Choices(typeof(VersionCertainty))] string Known,
    string What,
    IReadOnlyList<SchemaChangeDocument> Changes,
    [property: Time] string NoticedAt,
    IReadOnlyList<VersionColumnDocument>? Columns,
    string? Statement
)
{
    /// <summary>As the core has it, with positions as the source writes them.</summary>
    internal static SchemaVersionDocument Of(SchemaVersion version, Func<LogPosition, string> format) =>
        new(
            version.Table.ToString(),
            version.Number,
            format(version.From),
            version.NotBefore is { } notBefore ? format(notBefore) : null,
            version.Certainty.ToString().ToLowerInvariant(),
            version.What,
            [.. version.Changes.Select(SchemaChangeDocument.Of)],
            version.NoticedAt.UtcDateTime.ToString("o"),
            version.Schema is { } schema ? [.. schema.Columns.Select(VersionColumnDocument.Of)] : null,
            version.Statement
        );
}
