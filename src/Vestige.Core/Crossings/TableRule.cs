namespace Vestige.Core.Crossings;

/// <summary>One line of the table rules: exactly one of the two patterns is set. <c>*</c> stands for any characters.</summary>
public sealed record TableRule(string? Take = null, string? Leave = null)
{
    public string Pattern => Take ?? Leave ?? "";

    /// <summary>Matches the whole of <paramref name="name"/> (<c>schema.table</c>), letter case included.</summary>
    public bool Matches(string name) => TablePattern.Matches(Pattern, name);
}
