using Vestige.Core.Crossings;

namespace Vestige.Web.Api.Documents;

/// <summary>What waits in quarantine.</summary>
public sealed record QuarantineDocument(int Total, QuarantineRule? Rule, IReadOnlyList<QuarantinedDocument> Changes);
