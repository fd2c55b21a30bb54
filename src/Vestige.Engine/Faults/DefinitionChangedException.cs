namespace Vestige.Engine.Faults;

/// <summary>A definition is not the one that a change of it was made from.</summary>
public sealed class DefinitionChangedException : RequestRefusedException
{
    public DefinitionChangedException() { }

    public DefinitionChangedException(string message)
        : base(message) { }

    public DefinitionChangedException(string message, Exception innerException)
        : base(message, innerException) { }
}
