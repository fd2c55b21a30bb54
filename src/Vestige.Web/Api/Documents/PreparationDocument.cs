namespace Vestige.Web.Api.Documents;

/// <summary>What a DBA runs so that a database can be used, and what takes it back.</summary>
public sealed record PreparationDocument(string Script, string Undo, bool NeedsRestart);
