namespace Vestige.Engine.Ports;

/// <summary>The text that says why a table is held, and what can be done; kept with its progress on the target.</summary>
public static class HeldCause
{
    private const string Agreeing = " If you agree, Vestige runs this on the target: ";
    private const string Kept = " Later changes of this table are kept. Agree to continue, or reload it.";

    /// <summary>Of a table that has to be loaded again.</summary>
    /// <param name="what">What happened, as sentences.</param>
    public static string Lasting(string what) => $"{what} Later changes are not applied to this table. Load it again to continue.";

    /// <summary>Of a table whose changes are kept until a person agrees.</summary>
    /// <param name="what">What happened, as sentences.</param>
    public static string Waiting(string what) => what + Kept;

    /// <summary>What happened, with the statements to agree to.</summary>
    /// <param name="what">What happened, as sentences.</param>
    /// <param name="statements">The statements, separated by semicolons.</param>
    public static string With(string what, string statements) => $"{what}{Agreeing}{statements}.";

    /// <summary>What happened, without what can be done.</summary>
    public static string WhatOf(string cause)
    {
        ArgumentNullException.ThrowIfNull(cause);
        var end = cause.IndexOf(Agreeing, StringComparison.Ordinal);
        end = end < 0 ? cause.IndexOf(Kept, StringComparison.Ordinal) : end;
        return end < 0 ? cause : cause[..end];
    }

    /// <summary>The statements that run on the target once a person agrees; empty where none is named.</summary>
    public static string StatementsOf(string cause)
    {
        ArgumentNullException.ThrowIfNull(cause);
        var begin = cause.IndexOf(Agreeing, StringComparison.Ordinal);
        var end = cause.LastIndexOf($".{Kept}", StringComparison.Ordinal);
        return begin < 0 || end < begin ? "" : cause[(begin + Agreeing.Length)..end];
    }
}
