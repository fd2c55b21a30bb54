namespace Vestige.Core.Folding;

/// <summary>The changes contradict each other, or lack a value that folding needs.</summary>
public sealed class FoldingException : Exception
{
    public FoldingException() { }

    public FoldingException(string message)
        : base(message) { }

    public FoldingException(string message, Exception innerException)
        : base(message, innerException) { }
}
