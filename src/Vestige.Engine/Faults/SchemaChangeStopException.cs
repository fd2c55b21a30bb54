namespace Vestige.Engine.Faults;

/// <summary>A rule of the crossing says that it stops before a change of a table's schema. Everything before it is applied.</summary>
public sealed class SchemaChangeStopException : PortException
{
    public SchemaChangeStopException() { }

    public SchemaChangeStopException(string message)
        : base(message) { }

    public SchemaChangeStopException(string message, Exception innerException)
        : base(message, innerException) { }
}
