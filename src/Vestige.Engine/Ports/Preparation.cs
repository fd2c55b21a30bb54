namespace Vestige.Engine.Ports;

/// <summary>What a DBA runs so that a database can be read or written, and what takes it back.</summary>
/// <param name="Script">Statements, with comments; safe to run twice.</param>
/// <param name="Undo">Statements that leave the database as before.</param>
/// <param name="NeedsRestart">Whether some of it is in force only after a restart of the server.</param>
public sealed record Preparation(string Script, string Undo, bool NeedsRestart)
{
    /// <summary>
    /// Statements without which everything works, and that have a source tell its schema changes at their place in the log; safe to run
    /// twice. Null where there are none.
    /// </summary>
    public string? Optional { get; init; }
}
