namespace Vestige.Web.Api.Documents;

/// <summary>What a DBA runs so that a database can be used, and what takes it back.</summary>
/// <param name="Script">Statements, with comments.</param>
/// <param name="Undo">Statements that leave the database as before.</param>
/// <param name="NeedsRestart">Whether some of it is in force only after a restart of the server.</param>
/// <param name="Optional">
/// Statements that are not needed, and have a source tell its schema changes at their place in the log; null where there are none.
/// </param>
public sealed record PreparationDocument(string Script, string Undo, bool NeedsRestart, string? Optional);
