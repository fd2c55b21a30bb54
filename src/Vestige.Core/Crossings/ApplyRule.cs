namespace Vestige.Core.Crossings;

/// <summary>How the tables that a pattern matches are applied.</summary>
/// <param name="Tables">The pattern; <c>*</c> stands for any characters of <c>schema.table</c>.</param>
/// <param name="As">The manner.</param>
public sealed record ApplyRule(string Tables, ApplyMode As);
