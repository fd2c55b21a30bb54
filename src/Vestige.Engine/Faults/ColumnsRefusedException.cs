using Vestige.Core.Schemas;

namespace Vestige.Engine.Faults;

/// <summary>A target does not add columns that a source's table got. The message says why; the table is held by it.</summary>
public sealed class ColumnsRefusedException : PortException
{
    public ColumnsRefusedException() { }

    public ColumnsRefusedException(string message)
        : base(message) { }

    public ColumnsRefusedException(string message, Exception innerException)
        : base(message, innerException) { }

    /// <summary>The source's table.</summary>
    public TableName Table { get; init; }
}
