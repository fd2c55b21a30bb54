namespace Vestige.Core.Treatments;

/// <summary>What becomes of values that go into a column of another type.</summary>
/// <param name="Outcome">How they fare.</param>
/// <param name="Words">The reason, for a person.</param>
public readonly record struct TypeChange(TypeOutcome Outcome, string Words);
