using Vestige.Core.SchemaVersions;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>One difference between a version of a table and the one before.</summary>
/// <param name="Kind">What is different.</param>
/// <param name="Subject">The column, key or object.</param>
/// <param name="Before">What it was; null where there was nothing.</param>
/// <param name="After">What it is; null where there is nothing any more.</param>
/// <param name="Text">The same in words.</param>
public sealed record SchemaChangeDocument(
    [property: Choices(typeof(SchemaChangeKind))] string Kind,
    string Subject,
    string? Before,
    string? After,
    string Text
)
{
    /// <summary>As the core has it.</summary>
    internal static SchemaChangeDocument Of(SchemaChange change) =>
        new(change.Kind.Word(), change.Subject, change.Before, change.After, change.Words);
}
