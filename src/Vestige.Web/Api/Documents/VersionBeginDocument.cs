namespace Vestige.Web.Api.Documents;

/// <summary>Where a version of a table begins: between two positions, which are the same where it is known exactly.</summary>
/// <param name="Earliest">Changes of rows up to here are of the version before.</param>
/// <param name="Latest">Changes of rows after here are of this version.</param>
public sealed record VersionBeginDocument(string Earliest, string Latest);
