using System.Text.Json;

namespace Vestige.Web.Api;

/// <summary>An entry of a list, or a value of a mapping, is null.</summary>
public sealed class EmptyEntryException : JsonException
{
    public EmptyEntryException() { }

    /// <param name="entry">The entry within its document or the part of it that <see cref="JsonException.Path"/> leads to.</param>
    public EmptyEntryException(string entry)
        : base($"{entry} is null") => Entry = entry;

    public EmptyEntryException(string entry, Exception innerException)
        : base($"{entry} is null", innerException) => Entry = entry;

    public string Entry { get; } = "";

    /// <summary>Where it is, from the document's beginning.</summary>
    public string Field => Path is null or "$" ? Entry : $"{Path.TrimStart('$').TrimStart('.')}.{Entry}";
}
