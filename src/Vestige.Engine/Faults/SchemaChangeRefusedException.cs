using Vestige.Core.Schemas;

namespace Vestige.Engine.Faults;

/// <summary>A change of a source's table is not made on the target. The message says why; the table is held by it.</summary>
public sealed class SchemaChangeRefusedException : PortException
{
    public SchemaChangeRefusedException() { }

    public SchemaChangeRefusedException(string message)
        : base(message) { }

    public SchemaChangeRefusedException(string message, Exception innerException)
        : base(message, innerException) { }

    /// <summary>The source's table.</summary>
    public TableName Table { get; init; }
}
