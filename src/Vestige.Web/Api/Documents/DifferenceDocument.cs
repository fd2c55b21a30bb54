using Vestige.Core.Reconciling;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>A row that differs, with the statement that repairs it.</summary>
public sealed record DifferenceDocument(
    int Place,
    [property: Choices(typeof(DifferenceKind))] string Kind,
    string Key,
    IReadOnlyList<string> Columns,
    int Times,
    string? Cause,
    IReadOnlyList<DifferingValueDocument> Values,
    string? Statement
);
