namespace Vestige.Core.Schemas;

/// <summary>An object of the database that a part of a table's structure uses, and that has to be there before the part is made.</summary>
/// <param name="Kind">What it is, in the engine's own words: function, collation, extension, ...</param>
/// <param name="Name">How the engine writes it for people.</param>
/// <param name="Address">Its qualified name, part by part.</param>
/// <param name="Arguments">The types of its arguments, or what else belongs to its address; empty where nothing does.</param>
public sealed record SchemaNeed(string Kind, string Name, IReadOnlyList<string> Address, IReadOnlyList<string> Arguments);
