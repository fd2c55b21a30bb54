namespace Vestige.Web.Api.Documents;

/// <summary>A change of a source's table that waits for a person.</summary>
/// <param name="Id">By which it is agreed to: the table, as schema.table.</param>
/// <param name="Position">The position at which the table is held.</param>
/// <param name="What">What was changed, as sentences.</param>
/// <param name="Statements">What runs on the target once you agree.</param>
/// <param name="MayLeaveOut">Whether the table can continue without it.</param>
public sealed record WaitingChangeDocument(string Id, string Position, string What, IReadOnlyList<string> Statements, bool MayLeaveOut);
