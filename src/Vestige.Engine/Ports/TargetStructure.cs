using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>What the tables of a crossing are to be on its target.</summary>
/// <param name="Tables">Their forms, with all that belongs to them.</param>
/// <param name="NotMade">What of the source's structure is not made, each with the reason.</param>
public sealed record TargetStructure(IReadOnlyList<TableSchema> Tables, IReadOnlyList<string> NotMade);
