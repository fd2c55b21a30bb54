using Vestige.Engine.Reconciling;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>A range of keys of a table, compared as of its own position.</summary>
public sealed record SegmentDocument(
    string? From,
    string? Before,
    long Rows,
    [property: Choices(typeof(SegmentState))] string State,
    string Position,
    long InFlight
);
