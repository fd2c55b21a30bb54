namespace Vestige.Web.Treating;

/// <summary>One row before and after its treatment, as a person reads it.</summary>
/// <param name="Before">The values that go in, by the source's columns; of a masked one type and length only.</param>
/// <param name="Into">The target's table that it goes into; null when it is left out.</param>
/// <param name="After">The values that come out, by the target's columns; empty when it is left out.</param>
/// <param name="Why">Why it is left out, or has no value; null when it crosses.</param>
public sealed record TreatedSample(IReadOnlyList<string> Before, string? Into, IReadOnlyList<string> After, string? Why)
{
    /// <summary>The key that its messages would have, where a step names one; null else.</summary>
    public string? MessageKey { get; init; }

    /// <summary>The child rows that come with it: each table, and the values by column.</summary>
    public IReadOnlyList<(string Into, IReadOnlyList<(string Column, string Value)> Values)> Children { get; init; } = [];
}
