namespace Vestige.Web.Api.Documents;

/// <summary>A statement that would be run, with its values by column.</summary>
public sealed record WrittenDocument(string Into, string Statement, IReadOnlyDictionary<string, string> Values);
