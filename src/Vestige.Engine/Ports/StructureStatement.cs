using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>A statement that makes a part of a target's structure.</summary>
/// <param name="Text">The statement.</param>
/// <param name="Makes">The table that it makes; null where it makes something else.</param>
public sealed record StructureStatement(string Text, TableName? Makes = null);
