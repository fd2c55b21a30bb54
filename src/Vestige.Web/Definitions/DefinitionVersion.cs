using Vestige.Core.Crossings;

namespace Vestige.Web.Definitions;

/// <summary>A definition as it was kept at one time.</summary>
/// <param name="Number">1, 2, 3 ... for a crossing; the ETag of the API while it was the present one.</param>
/// <param name="Definition">The document.</param>
/// <param name="By">Who kept it; a typed name, unverified.</param>
/// <param name="At">When.</param>
public sealed record DefinitionVersion(long Number, CrossingDefinition Definition, string By, DateTimeOffset At);
