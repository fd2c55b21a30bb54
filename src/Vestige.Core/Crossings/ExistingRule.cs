namespace Vestige.Core.Crossings;

/// <summary>What existing target tables mean for the tables of the source that a pattern matches.</summary>
public sealed record ExistingRule(string Tables, ExistingRows Existing);
