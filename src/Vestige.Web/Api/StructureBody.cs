namespace Vestige.Web.Api;

/// <summary>Indexes and constraints to build.</summary>
/// <param name="Parts">Which.</param>
public sealed record StructureBody(List<PartBody>? Parts = null);
