namespace Vestige.Core.Schemas;

/// <summary>A part of a table's structure as a statement of its engine.</summary>
/// <param name="Stage">When it is made.</param>
/// <param name="Name">What it is called; unique within the stage and the table's schema.</param>
/// <param name="Statement">The statement that makes it.</param>
/// <param name="References">The table that must be there; null when there is none.</param>
public sealed record SchemaPart(PartStage Stage, string Name, string Statement, TableName? References = null);
