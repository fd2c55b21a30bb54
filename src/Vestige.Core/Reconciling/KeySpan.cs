using Vestige.Core.Changes;

namespace Vestige.Core.Reconciling;

/// <summary>Keys from one on, up to but without another. The rows hold the key columns only, in key order; none means open.</summary>
public readonly record struct KeySpan(Row From, Row Before)
{
    /// <summary>Every key.</summary>
    public static KeySpan All => default;

    public bool IsAll => From.IsNone && Before.IsNone;

    /// <summary>Whether a key lies in it; keys of whole numbers only.</summary>
    public bool Contains(Row key) =>
        (From.IsNone || IntegerKeys.Compare(key, From) >= 0) && (Before.IsNone || IntegerKeys.Compare(key, Before) < 0);
}
