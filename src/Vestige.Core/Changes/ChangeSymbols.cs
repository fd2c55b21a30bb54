namespace Vestige.Core.Changes;

/// <summary>The marks by which changes are shown, everywhere the same.</summary>
public static class ChangeSymbols
{
    public static string Of(ChangeKind kind) =>
        kind switch
        {
            ChangeKind.Insert => "+",
            ChangeKind.Update => "~",
            ChangeKind.Delete => "−",
            ChangeKind.Truncate => "∅",
            ChangeKind.Schema => "Δ",
            _ => throw new ArgumentOutOfRangeException(nameof(kind), kind, "not a kind of change"),
        };
}
