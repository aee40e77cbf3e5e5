export { createCertificate, type CertificateAuthority, type Certified } from "./certificates.js";
export type { Person } from "./people.js";
export type { Client, Lifetimes } from "./quayside/state.js";
export { proofFaults, type ProofFaultName, type ProofWish } from "./proofs.js";
export { rehearsals, type Rehearsal, type RehearsalName } from "./rehearsals.js";
export { PortInUseError } from "./serve.js";
export { defaultClient, startPractice, type Practice, type PracticeOptions } from "./start-practice.js";
export { tokenFaults, type TokenFault, type TokenFaultName, type TokenWish } from "./tokens.js";
export { createVisitor, type VisitedPage, type Visitor } from "./visitor.js";
