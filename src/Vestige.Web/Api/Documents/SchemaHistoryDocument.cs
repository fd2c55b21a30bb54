using Vestige.Core.Positions;
using Vestige.Core.SchemaVersions;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>A version of one table of a source.</summary>
/// <param name="Version">From 1 on.</param>
/// <param name="Known">How that is known.</param>
/// <param name="From">Where it begins.</param>
/// <param name="Statement">The statement that made it, for display; null where the source does not tell it.</param>
/// <param name="Columns">Its columns; null where there is no such table any more.</param>
public sealed record SchemaHistoryDocument(
    int Version,
    [property: Choices(typeof(VersionCertainty))] string Known,
    VersionBeginDocument From,
    string? Statement,
    IReadOnlyList<VersionColumnDocument>? Columns
)
{
    /// <summary>As the core has it, with positions as the source writes them.</summary>
    internal static SchemaHistoryDocument Of(SchemaVersion version, Func<LogPosition, string> format) =>
        new(
            version.Number,
            version.Certainty.ToString().ToLowerInvariant(),
            new VersionBeginDocument(format(version.NotBefore ?? version.From), format(version.From)),
            version.Statement,
            version.Schema is { } schema ? [.. schema.Columns.Select(VersionColumnDocument.Of)] : null
        );
}
