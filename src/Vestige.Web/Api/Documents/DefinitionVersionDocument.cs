using Vestige.Core.Crossings;

namespace Vestige.Web.Api.Documents;

/// <summary>A definition as it was kept, with who and when.</summary>
public sealed record DefinitionVersionDocument(long Version, string By, DateTimeOffset At, CrossingDefinition Definition);
