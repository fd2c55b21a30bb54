namespace Vestige.Core.Crossings;

/// <summary>What becomes of the tables that a pattern matches when their schema changes at the source.</summary>
/// <param name="Tables">The pattern; <c>*</c> stands for any characters of <c>schema.table</c>.</param>
/// <param name="As">What is done.</param>
public sealed record SchemaChangeRule(string Tables, SchemaChangeAction As);
